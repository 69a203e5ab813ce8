package plan_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/demo"
	"yellowlantern/internal/core/plan"
)

func tern(t *testing.T) string {
	s, err := demo.Load("")
	require.NoError(t, err)
	return s.Plan
}

// everyObject lists the paths of all objects of a plan with their values as JSON.
func everyObject(t require.TestingT, text string) map[string]string {
	doc, err := plan.Read(text)
	require.NoError(t, err)
	out := map[string]string{}
	kinds, lists := plan.Objects(doc.Plan)
	for _, k := range kinds {
		for i := range lists[k].Len() {
			value, err := json.Marshal(lists[k].Index(i).Interface())
			require.NoError(t, err)
			out[k+"/"+lists[k].Index(i).FieldByName("Name").String()] = string(value)
		}
	}
	return out
}

// Putting an object as it is changes not one octet; putting it after it was taken out brings it back as it was.
func TestPutWhatIsThere(t *testing.T) {
	text := tern(t)
	before := everyObject(t, text)
	require.Greater(t, len(before), 40)
	for path, value := range before {
		same, err := plan.Apply(text, plan.Edit{Op: "put", Path: path, Value: value})
		require.NoError(t, err, path)
		require.Equal(t, text, same, path)
		without, err := plan.Apply(text, plan.Edit{Op: "remove", Path: path})
		if err != nil {
			require.ErrorContains(t, err, "the only one", path)
			continue
		}
		back, err := plan.Apply(without, plan.Edit{Op: "put", Path: path, Value: value})
		require.NoError(t, err, path)
		require.Equal(t, before, everyObject(t, back), path)
		require.LessOrEqual(t, strings.Count(text, "#")-strings.Count(back, "#"), 2, "comments elsewhere stay")
	}
}

// What is put is what is read afterwards, whichever fields come, go or change.
func TestPutAnything(t *testing.T) {
	text := tern(t)
	before := everyObject(t, text)
	rapid.Check(t, func(t *rapid.T) {
		host := map[string]any{"name": "records"}
		addrs := rapid.SliceOfNDistinct(rapid.SampledFrom([]any{"10.20.30.5", "fd00:20:30::5", "10.20.30.6", "10.20.30.8"}), 0, 4,
			rapid.ID[any]).Draw(t, "addresses")
		if len(addrs) > 0 {
			host["addresses"] = addrs
		}
		if rapid.Bool().Draw(t, "ranges") {
			host["ranges"] = []any{"10.20.30.20-10.20.30.29"}
		}
		if rapid.Bool().Draw(t, "dns") {
			host["dns"] = rapid.SampledFrom([]string{"records.tern.example", "a#b: c, [d]", "on"}).Draw(t, "name")
		}
		pool := map[string]any{"name": "guests", "prefixes": []any{"10.99.1.0/26"}, "owned": rapid.Bool().Draw(t, "owned")}
		gate := map[string]any{}
		require.NoError(t, json.Unmarshal([]byte(before["gateways/jetty"]), &gate))
		routes := gate["routes"].([]any)
		gate["routes"] = append(rapid.SliceOfNDistinct(rapid.SampledFrom(routes), 1, 3, func(v any) string { return v.(map[string]any)["to"].(string) }).Draw(t, "routes"), map[string]any{"to": "10.77.0.0/16", "via": "10.20.0.2"})
		for path, object := range map[string]map[string]any{"hosts/records": host, "pools/guests": pool, "gateways/jetty": gate} {
			value, err := json.Marshal(object)
			require.NoError(t, err)
			after, err := plan.Apply(text, plan.Edit{Op: "put", Path: path, Value: string(value)})
			require.NoError(t, err, "%s", value)
			var got map[string]any
			objects := everyObject(t, after)
			require.NoError(t, json.Unmarshal([]byte(objects[path]), &got))
			if object["owned"] == false {
				delete(object, "owned") // false is the same as nothing
			}
			require.Equal(t, plan.Flow(object, nil), plan.Flow(got, nil), "%s", value)
			objects[path] = before[path]
			require.Equal(t, before, objects, "nothing else changes")
		}
	})
	for want, bad := range map[string]plan.Edit{
		"unknown field": {Op: "put", Path: "hosts/records", Value: `{"name": "records", "adress": []}`},
		"rename it":     {Op: "put", Path: "hosts/records", Value: `{"name": "other"}`},
		"no object":     {Op: "put", Path: "hosts/records", Value: `[1]`},
		"only an":       {Op: "put", Path: "hosts", Value: `{}`},
		"there is no":   {Op: "put", Path: "gateways/gone/inside/0", Value: `{}`},
	} {
		_, err := plan.Apply(text, bad)
		require.ErrorContains(t, err, want)
	}
}

// An object with another name is named by it everywhere, and nothing else changes: renamed back, the text is as it was.
func TestRename(t *testing.T) {
	text := tern(t)
	doc, err := plan.Read(text)
	require.NoError(t, err)
	for path := range everyObject(t, text) {
		kind, name, _ := strings.Cut(path, "/")
		after, err := plan.Apply(text, plan.Edit{Op: "rename", Path: path, Value: "another-name"})
		require.NoError(t, err, path)
		d, err := plan.Read(after)
		require.NoError(t, err)
		named := func(p plan.Plan, word string) (n int) {
			for _, m := range p.Mentions() {
				if m.Word == word && strings.Contains(strings.Join(m.Kinds, ","), kind) {
					n++
				}
			}
			return n
		}
		require.Equal(t, named(doc.Plan, name), named(d.Plan, "another-name"), path)
		changes := plan.Difference(doc.Plan, d.Plan)
		require.Contains(t, changes, plan.Change{Path: path, Kind: "renamed", Before: name, After: "another-name"})
		for _, c := range changes {
			require.NotContains(t, []string{"made", "removed", "moved"}, c.Kind, "%s: %s", path, c)
		}
		back, err := plan.Apply(after, plan.Edit{Op: "rename", Path: kind + "/another-name", Value: name})
		require.NoError(t, err)
		require.Equal(t, text, back, path)
	}
	_, err = plan.Apply(text, plan.Edit{Op: "rename", Path: "hosts/records", Value: "No Name"})
	require.ErrorContains(t, err, "lower-case")
	_, err = plan.Apply(text, plan.Edit{Op: "rename", Path: "hosts/records", Value: "office"})
	require.ErrorContains(t, err, "used twice")
}

// Objects are moved with the comments above them.
func TestMove(t *testing.T) {
	text := strings.Replace(tern(t), "  - name: research\n", "  # who read the archive\n  - name: research\n", 1)
	order := func(text string) (names []string) {
		d, err := plan.Read(text)
		require.NoError(t, err)
		for _, p := range d.Plan.Passages {
			names = append(names, p.Name)
		}
		return names
	}
	first, err := plan.Apply(text, plan.Edit{Op: "move", Path: "passages/research", Value: "wardens"})
	require.NoError(t, err)
	require.Equal(t, []string{"research", "wardens", "volunteers", "contractor"}, order(first))
	require.Contains(t, first, "passages:\n  # who read the archive\n  - name: research\n")
	last, err := plan.Apply(first, plan.Edit{Op: "move", Path: "passages/research"})
	require.NoError(t, err)
	require.Equal(t, []string{"wardens", "volunteers", "contractor", "research"}, order(last))
	again, err := plan.Apply(last, plan.Edit{Op: "move", Path: "passages/research", Value: "volunteers"})
	require.NoError(t, err)
	require.Equal(t, order(text), order(again))
	require.Equal(t, everyObject(t, text), everyObject(t, again))
}

func TestHours(t *testing.T) {
	read := func(days []string, from, to string) *plan.Hours {
		h := &plan.Hours{Days: days}
		require.NoError(t, h.From.UnmarshalText([]byte(from)))
		require.NoError(t, h.To.UnmarshalText([]byte(to)))
		return h
	}
	reykjavik := time.FixedZone("west", -3600)
	friday := time.Date(2026, 6, 5, 23, 30, 0, 0, time.UTC)
	night := read([]string{"friday"}, "22:00", "06:00")
	require.True(t, night.Hold(friday))
	require.True(t, night.Hold(friday.Add(6*time.Hour)), "into Saturday")
	require.False(t, night.Hold(friday.Add(6*time.Hour+30*time.Minute)))
	require.False(t, night.Hold(friday.Add(24*time.Hour)))
	require.False(t, night.Hold(friday.Add(-2*time.Hour)))
	require.True(t, read(nil, "00:00", "24:00").Hold(friday))
	require.True(t, read(nil, "22:00", "23:00").Hold(friday.In(reykjavik)))
	require.False(t, read(nil, "22:00", "23:00").Hold(friday))
	for _, bad := range []string{"8:00", "24:01", "08:60", "", "0800", "aa:bb", "-1:00"} {
		require.Error(t, new(plan.Clock).UnmarshalText([]byte(bad)), bad)
	}
	for text, want := range map[string]string{"90s": "1m30s", "60m": "1h", "1h30m": "1h30m", "30m": "30m"} {
		var d plan.Duration
		require.NoError(t, d.UnmarshalText([]byte(text)))
		require.Equal(t, want, d.String())
	}
	for _, bad := range []string{"5", "-1s", "1ms", "x"} {
		require.Error(t, new(plan.Duration).UnmarshalText([]byte(bad)), bad)
	}
	for _, bad := range []string{"10.0.0.9-10.0.0.1", "10.0.0.1-fd00::1", "10.0.0.1-", "x", "::ffff:10.0.0.1", "fe80::1%eth0"} {
		require.Error(t, new(plan.Range).UnmarshalText([]byte(bad)), bad)
	}
}

// Every field has what a form needs, and every kind of object its form.
func TestForms(t *testing.T) {
	forms := plan.Forms()
	require.Equal(t, 19, len(forms))
	var walk func(path string, fields []plan.Field)
	walk = func(path string, fields []plan.Field) {
		for _, f := range fields {
			at := path + "/" + f.Name
			require.NotEmpty(t, f.Doc, at)
			require.NotEmpty(t, f.Type, at)
			if f.Type != "object" && f.Type != "switch" && len(f.Choices) == 0 && len(f.Refs) == 0 {
				require.True(t, f.Example != "" || f.Name == "users" || f.Name == "address", "%s has no example", at)
			}
			walk(at, f.Fields)
		}
	}
	for _, f := range forms {
		walk(f.Kind, f.Fields)
	}
}
