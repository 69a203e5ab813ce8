package httpapi

import (
	"log/slog"
	"os"
	"testing"

	"yellowlantern/internal/app"

	"github.com/stretchr/testify/require"
)

// docs/openapi.yaml, from which the console's types are made, says what the Go types say.
func TestOpenAPIIsCurrent(t *testing.T) {
	page, err := os.ReadFile("../../docs/openapi.yaml")
	require.NoError(t, err)
	doc, err := New(Config{App: app.New(app.Config{Log: slog.Default()}), Log: slog.Default()}).OpenAPI()
	require.NoError(t, err)
	require.Equal(t, string(doc), string(page), "make docs")
}
