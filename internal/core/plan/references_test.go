package plan_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/plan"
)

// Whatever is kept beside the plan and named by it is found, wherever that is said: nothing of it is removed from under what runs.
func TestNeeds(t *testing.T) {
	const own = "yellowlantern/internal/core/plan"
	kinds := map[string]bool{plan.KeptSecret: true, plan.KeptCertificate: true, plan.KeptUser: true, plan.KeptAdministrator: true}
	type place struct{ kind, path string }
	named := map[string]place{}
	var fill func(v reflect.Value, path string)
	fill = func(v reflect.Value, path string) {
		for i := range v.NumField() {
			f := v.Type().Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			at := strings.Trim(path+"/"+name, "/")
			kept, doc := f.Tag.Get("kept"), f.Tag.Get("doc")
			if strings.Contains(doc, "kept beside the plan") && !strings.Contains(doc, "Who is in them") {
				require.NotEmpty(t, kept, "%s says that it names something kept beside the plan", at)
			}
			word := fmt.Sprintf("object%d", len(named))
			switch to := v.Field(i); {
			case kept != "" && to.Kind() == reflect.String:
				require.True(t, kinds[kept], at)
				to.SetString(word)
				named[word] = place{kept, at}
			case kept != "":
				require.True(t, kinds[kept], at)
				to.Set(reflect.ValueOf([]string{word}))
				named[word] = place{kept, at + "/0"}
			case name == "-" || name == "" || to.Kind() == reflect.Struct && to.Type().PkgPath() != own:
			case to.Kind() == reflect.Struct:
				fill(to, at)
			case to.Kind() == reflect.Pointer && to.Type().Elem().Kind() == reflect.Struct:
				to.Set(reflect.New(to.Type().Elem()))
				fill(to.Elem(), at)
			case to.Kind() == reflect.Slice && to.Type().Elem().Kind() == reflect.Struct && to.Type().Elem().PkgPath() == own:
				to.Set(reflect.MakeSlice(to.Type(), 1, 1))
				item := "0"
				if n := to.Index(0).FieldByName("Name"); n.IsValid() {
					n.SetString("x")
					item = "x"
				}
				fill(to.Index(0), at+"/"+item)
			}
		}
	}
	var p plan.Plan
	fill(reflect.ValueOf(&p).Elem(), "")
	p.Sources[0].Kind, p.Sources[0].Own = plan.KindRADIUS, &plan.RADIUS{Certificate: "shown"}
	named["shown"] = place{plan.KeptCertificate, "sources/x/certificate"}
	require.Greater(t, len(named), 12)
	for word, at := range named {
		for kind := range kinds {
			want := []string{at.path}
			if kind != at.kind {
				want = nil
			}
			require.Equal(t, want, p.Needs(kind, word), "%s as %s", at.path, kind)
		}
	}
}
