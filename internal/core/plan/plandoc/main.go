// Command plandoc prints docs/plan.md, which is made from the plan's types.
package main

import (
	"fmt"

	"yellowlantern/internal/core/plan"
)

func main() { fmt.Print(plan.Reference()) }
