package httpapi

import (
	"context"
	"fmt"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/legible"
)

// legibly refuses input with characters that act rather than show: it would reach terminals and pages. Documents and keys in PEM, which
// have many lines, say so by their tag lines; of a plan the reader looks for itself. Passwords are never shown.
func legibly[I, O any](h func(context.Context, *I) (*O, error)) func(context.Context, *I) (*O, error) {
	return func(ctx context.Context, in *I) (*O, error) {
		if path, problem := illegible(reflect.ValueOf(in), ""); problem != "" {
			return nil, huma.Error422UnprocessableEntity("nothing was changed",
				&huma.ErrorDetail{Location: path, Message: "it holds " + problem +
					", which acts on a terminal rather than being shown: take it out"})
		}
		return h(ctx, in)
	}
}

// illegible finds the first such character; problem is empty if there is none.
func illegible(v reflect.Value, path string) (at, problem string) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			return illegible(v.Elem(), path)
		}
	case reflect.String:
		if i := legible.Find(v.String(), ""); i >= 0 {
			return path, legible.Name(v.String(), i)
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return "", ""
		}
		for i := range v.Len() {
			if at, problem = illegible(v.Index(i), fmt.Sprintf("%s[%d]", path, i)); problem != "" {
				return at, problem
			}
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			if at, problem = illegible(k, path); problem == "" {
				at, problem = illegible(v.MapIndex(k), path+"."+k.String())
			}
			if problem != "" {
				return at, problem
			}
		}
	case reflect.Struct:
		return illegibleField(v, path)
	}
	return "", ""
}

func illegibleField(v reflect.Value, path string) (at, problem string) {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if !f.IsExported() || f.Tag.Get("lines") == "many" || name == "password" {
			continue
		}
		where := path
		switch {
		case f.Name == "Body":
			where = "body"
		case name != "":
			where = strings.TrimPrefix(path+"."+name, ".")
		}
		if at, problem = illegible(v.Field(i), where); problem != "" {
			return at, problem
		}
	}
	return "", ""
}
