// Command reasondoc prints docs/reasons.md, which is made from the table of reasons.
package main

import (
	"fmt"

	"yellowlantern/internal/core/reason"
)

func main() { fmt.Print(reason.Reference()) }
