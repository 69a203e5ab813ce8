// Command apidoc prints the API's OpenAPI document, which is generated from the Go types.
package main

import (
	"fmt"
	"log/slog"
	"os"

	"yellowlantern/internal/service"
)

func main() {
	doc, err := service.New(service.Config{Log: slog.Default()}).OpenAPI()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	_, _ = os.Stdout.Write(doc)
}
