// Command apidoc prints the API's OpenAPI document, which is generated from the Go types.
package main

import (
	"fmt"
	"log/slog"
	"os"

	"yellowlantern/internal/app"
	"yellowlantern/internal/httpapi"
)

func main() {
	doc, err := httpapi.New(httpapi.Config{App: app.New(app.Config{Log: slog.Default()}), Log: slog.Default()}).OpenAPI()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	_, _ = os.Stdout.Write(doc)
}
