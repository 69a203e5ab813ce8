// Devicedoc prints docs/devices.md.
package main

import (
	"fmt"

	"yellowlantern/internal/core/devices"
)

func main() { fmt.Print(devices.Reference()) }
