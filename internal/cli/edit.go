package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/plan"
)

// begun gives a draft, or, where there is no such draft yet, the running plan as its version 0: an edit then begins the draft.
func begun(ctx context.Context, cl *client.Client, name string) (plans.Draft, error) {
	d, err := draftNow(ctx, cl, name)
	if err != nil || d.Version > 0 {
		return d, err
	}
	r, err := client.Get[plans.Revision](ctx, cl, "/revisions/0")
	d.Text = r.Text
	return d, err
}

// change makes edits in a draft, unless somebody changed it since it was read, and says what is found on it then.
func (p *printer) change(ctx context.Context, cl *client.Client, d plans.Draft, edits []plan.Edit) error {
	var edited struct {
		Text string `json:"text"`
	}
	if err := cl.Do(ctx, "POST", "/edit", map[string]any{"text": d.Text, "edits": edits}, &edited); err != nil {
		return err
	}
	if _, err := save(ctx, cl, d, edited.Text); err != nil {
		return err
	}
	var checked plans.Checked
	if err := cl.Do(ctx, "POST", "/check", map[string]string{"text": edited.Text}, &checked); err != nil {
		return err
	}
	if printed, err := p.value(map[string]any{"edits": edits, "checked": checked}); printed {
		return err
	}
	for _, e := range edits {
		p.say("%s", e)
	}
	p.say("draft %s: %d stop, %d warn, %d note", d.Name, checked.Stops, checked.Warnings, checked.Notes)
	return nil
}

func (p *printer) planEdit(op string) func(context.Context, *cli.Command, *client.Client) error {
	return func(ctx context.Context, c *cli.Command, cl *client.Client) error {
		want := map[string]int{"set": 2, "add": 2, "remove": 1, "rename": 2}[op]
		if c.Args().Len() != want {
			return Failing(ExitUsage, "yl plan %s %s: such as %s", op, c.ArgsUsage, map[string]string{
				"set": "pools/staff/prefixes '[10.99.0.0/24]'", "add": "rules '{name: new, action: permit, to: [office], services: [ping]}'", "remove": "rules/new", "rename": "hosts/records archive-records",
			}[op])
		}
		d, err := begun(ctx, cl, c.String("draft"))
		if err != nil {
			return err
		}
		return p.change(ctx, cl, d, []plan.Edit{{Op: op, Path: c.Args().Get(0), Value: c.Args().Get(1)}})
	}
}

func (p *printer) planMend(ctx context.Context, c *cli.Command, cl *client.Client) error {
	id, err := argument(c, "finding, as yl plan check shows it")
	if err != nil {
		return err
	}
	d, err := begun(ctx, cl, c.String("draft"))
	if err != nil {
		return err
	}
	var checked plans.Checked
	if err := cl.Do(ctx, "POST", "/check", map[string]string{"text": d.Text}, &checked); err != nil {
		return err
	}
	for _, f := range checked.Findings {
		if f.ID() != id {
			continue
		}
		if len(f.Mend) == 0 {
			return Failing(ExitUsage, "this finding wants a decision: %s", f.Fix)
		}
		return p.change(ctx, cl, d, f.Mend)
	}
	return Failing(ExitUsage, "there is no finding %q; yl plan check shows them", id)
}

// planList lists the objects of one kind with all that is set in them.
func (p *printer) planList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	kind, one, single := strings.Cut(c.Args().First(), "/")
	d, err := begun(ctx, cl, c.String("draft"))
	if err != nil {
		return err
	}
	doc, err := plan.Read(d.Text)
	if err != nil {
		return Failing(ExitUsage, "the draft is no plan yet: %w", err)
	}
	kinds, lists := plan.Objects(doc.Plan)
	list, ok := lists[kind]
	if !ok {
		return Failing(ExitUsage, "there is no kind %q; there are %s", kind, strings.Join(kinds, ", "))
	}
	var rows [][]string
	shown := []any{}
	for i := range list.Len() {
		o := list.Index(i)
		if single && o.FieldByName("Name").String() != one {
			continue
		}
		row := []string{o.FieldByName("Name").String(), strings.TrimPrefix(plan.Words(o), fmt.Sprintf("name %s, ", o.FieldByName("Name")))}
		if matches(c.String("filter"), row...) {
			rows, shown = append(rows, row), append(shown, o.Interface())
		}
	}
	if printed, err := p.value(shown); printed {
		return err
	}
	if single && len(shown) == 0 {
		return Failing(ExitNot, "there is no %s in %s", one, kind)
	}
	p.table([]string{strings.TrimSuffix(kind, "s"), "settings"}, rows)
	return nil
}

// planPut makes objects of one kind what is given.
func (p *printer) planPut(ctx context.Context, c *cli.Command, cl *client.Client) error {
	kind := c.Args().First()
	if kind == "" || c.Args().Len() > 2 {
		return Failing(ExitUsage, "yl plan put %s: such as hosts '{\"name\": \"office\", \"addresses\": [\"10.20.0.20\"]}'", c.ArgsUsage)
	}
	given := c.Args().Get(1)
	if given == "" || given == "-" {
		b, err := io.ReadAll(io.LimitReader(os.Stdin, plan.MaxSize))
		if err != nil {
			return err
		}
		given = string(b)
	}
	var objects []map[string]any
	if err := yaml.Unmarshal([]byte(given), &objects); err != nil {
		var one map[string]any
		if err := yaml.Unmarshal([]byte(given), &one); err != nil {
			return Failing(ExitUsage, "that is neither an object nor a list of objects: %w", err)
		}
		objects = append(objects, one)
	}
	edits := make([]plan.Edit, 0, len(objects))
	for i, o := range objects {
		name, ok := o["name"].(string)
		value, err := json.Marshal(o)
		if !ok || err != nil {
			return Failing(ExitUsage, "object %d has no name", i+1)
		}
		edits = append(edits, plan.Edit{Op: "put", Path: kind + "/" + name, Value: string(value)})
	}
	d, err := begun(ctx, cl, c.String("draft"))
	if err != nil {
		return err
	}
	return p.change(ctx, cl, d, edits)
}

func (p *printer) planMove(ctx context.Context, c *cli.Command, cl *client.Client) error {
	if n := c.Args().Len(); n < 1 || n > 2 {
		return Failing(ExitUsage, "yl plan move %s: such as passages/contractor wardens", c.ArgsUsage)
	}
	d, err := begun(ctx, cl, c.String("draft"))
	if err != nil {
		return err
	}
	return p.change(ctx, cl, d, []plan.Edit{{Op: "move", Path: c.Args().Get(0), Value: c.Args().Get(1)}})
}

func (p *printer) planUses(ctx context.Context, c *cli.Command, cl *client.Client) error {
	object, err := argument(c, "object, such as hosts/records")
	if err != nil {
		return err
	}
	d, err := begun(ctx, cl, c.String("draft"))
	if err != nil {
		return err
	}
	var uses []string
	if err := cl.Do(ctx, "POST", "/uses", map[string]string{"text": d.Text, "object": object}, &uses); err != nil {
		return err
	}
	if printed, err := p.value(uses); printed {
		return err
	}
	var rows [][]string
	for _, u := range uses {
		rows = append(rows, []string{u})
	}
	p.table([]string{"named by"}, rows)
	return nil
}
