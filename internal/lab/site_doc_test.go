package lab

import (
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// docs/site.md names every field that a description may have.
func TestEveryFieldIsDescribed(t *testing.T) {
	page, err := os.ReadFile("../../docs/site.md")
	require.NoError(t, err)
	var walk func(of reflect.Type)
	walk = func(of reflect.Type) {
		switch of.Kind() {
		case reflect.Slice, reflect.Map, reflect.Pointer:
			walk(of.Elem())
		case reflect.Struct:
			for i := range of.NumField() {
				if name := of.Field(i).Tag.Get("yaml"); name != "" {
					require.True(t, strings.Contains(string(page), "`"+name+"`") || strings.Contains(string(page), name+"}") ||
						strings.Contains(string(page), "{"+name) || strings.Contains(string(page), ", "+name), "%s of %s", name, of)
					walk(of.Field(i).Type)
				}
			}
		}
	}
	walk(reflect.TypeFor[Description]())
}
