package cli

import (
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/manifest"
)

func (a *app) crossingPlanning() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "planning NAME", Short: "Show or replace tables, rules, queries and statements of a crossing",
		Args: exactly("the crossing's NAME"),
		Long: `Without --file it shows what is planned beside the tables' own plans. With it, it
replaces all of that, before the crossing has started; survey and fit check begin
anew. The file has the keys that a manifest has under crossing:

  tables: ["shop.*"]
  rules:
    - tables: shop.keepers
      columns: {email: {mask: people}, region: {value: marsh}}
  queries:                       # crossings that do not follow changes
    - table: shop.lately
      query: SELECT id, hive, weight FROM shop.readings WHERE read_at >= :since
      key: [id]
  parameters: {since: today - 7 days}
  before: ["CREATE ROLE reader"] # on the target, each by itself, before the first row
  after: ["ANALYZE shop.lately"] # on the target, when the load has ended
  carry: [views, routines]       # to a target of the same engine`,
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		cr, err := replanned(cmd, api, args[0], file, func(_ contract.Crossing, text []byte) (
			body contract.ChooseTablesJSONRequestBody, err error) {
			p, err := manifest.ParsePlan(text)
			if err != nil {
				return body, err
			}
			body.Patterns, body.Rules, body.Planning = append([]string{}, p.Tables...), &[]contract.Rule{}, &contract.Planning{}
			if len(p.Rules) > 0 {
				if *body.Rules, err = like[[]contract.Rule](p.Rules); err != nil {
					return body, err
				}
			}
			if *body.Planning, err = like[contract.Planning](p.Planning); err != nil {
				return body, err
			}
			whole(body.Planning)
			return body, nil
		})
		if err != nil {
			return err
		}
		return a.show(cr.Planning, func(w *table) { showPlanning(w, cr) })
	}
	c.Flags().StringVarP(&file, "file", "f", "", "file with the planning that replaces the one there is")
	return c
}

// whole gives every part of a planning, as a file replaces all of it: a part that is not
// given would stay as it is.
func whole(p *contract.Planning) {
	fill(&p.Queries, []contract.Query{})
	fill(&p.Parameters, map[string]string{})
	fill(&p.Before, []string{})
	fill(&p.After, []string{})
	fill(&p.Carry, []contract.PlanningCarry{})
}

func fill[T any](to **T, none T) {
	if *to == nil {
		*to = &none
	}
}

func showPlanning(w *table, c contract.Crossing) {
	p := c.Planning
	w.line("Tables: %s. Rules: %d (dustyferry crossing rules %s).", orEvery(c), len(c.Rules), c.Name)
	if q := deref(p.Queries); len(q) > 0 {
		w.line("")
		w.row("QUERY FOR", "KEY", "SELECT")
		for _, q := range q {
			w.row(q.Table, orNone(strings.Join(deref(q.Key), ", ")), strings.Join(strings.Fields(q.Query), " "))
		}
		w.flush()
	}
	if values := deref(p.Parameters); len(values) > 0 {
		w.line("")
		w.row("PARAMETER", "VALUE")
		for _, name := range slices.Sorted(maps.Keys(values)) {
			w.row(":"+name, values[name])
		}
		w.flush()
	}
	for what, list := range map[string][]string{"Before the load": deref(p.Before), "After the load": deref(p.After)} {
		for i, s := range list {
			if i == 0 {
				w.line("\n%s, on the target:", what)
			}
			w.line("  %s", s)
		}
	}
	if list := deref(p.Carry); len(list) > 0 {
		var names []string
		for _, k := range list {
			names = append(names, string(k))
		}
		w.line("\nCarried too: %s.", strings.Join(names, ", "))
	}
}

func orEvery(c contract.Crossing) string {
	switch {
	case len(c.Tables) > 0:
		return strings.Join(c.Tables, ", ")
	case len(deref(c.Planning.Queries)) > 0:
		return "none"
	}
	return "every one"
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (a *app) crossingCopy() *cobra.Command {
	var source, target string
	c := &cobra.Command{
		Use: "copy NAME NEW", Short: "Create a crossing NEW that is planned as NAME is", Args: exactly("the crossing's NAME",
			"the NEW crossing's name"),
		Example: "  dustyferry crossing copy spring summer --target archive",
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		out, err := client.Do[contract.Crossing](api.API.CopyCrossingWithResponse(cmd.Context(), args[0],
			contract.CopyCrossingJSONRequestBody{Name: args[1], Source: some(source), Target: some(target)}))
		if err != nil {
			return err
		}
		return a.show(out, func(w *table) {
			w.line("Crossing %s is planned as %s: from %s to %s, %s. Look before you start: dustyferry survey %s", out.Name,
				args[0], out.Source, out.Target, does(out), out.Name)
		})
	}
	c.Flags().StringVar(&source, "source", "", "another source database")
	c.Flags().StringVar(&target, "target", "", "another target database")
	return c
}

// some is a text that may be left unsaid.
func some(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// someOf is a list that may be left unsaid.
func someOf[T any](list []T) *[]T {
	if len(list) == 0 {
		return nil
	}
	return &list
}

func (a *app) crossingPreview() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "preview NAME TABLE", Short: "Show the first rows of a table or query as they will arrive",
		Args:    exactly("the crossing's NAME", "the TABLE (schema.table)"),
		Example: "  dustyferry crossing preview spring saltmarsh.keepers --limit 5",
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		p, err := client.Do[contract.Preview](api.API.PreviewPlanWithResponse(cmd.Context(), args[0],
			&contract.PreviewPlanParams{Table: args[1], Limit: &limit}))
		if err != nil {
			return err
		}
		return a.show(p, func(w *table) {
			if len(p.Rows) == 0 {
				w.line("There is no row in it now. Its columns: %s.", columnsOf(p))
				return
			}
			var names, types []string
			for _, k := range p.Columns {
				names, types = append(names, k.Name), append(types, k.Type)
			}
			w.row(names...)
			w.row(types...)
			for _, r := range p.Rows {
				cells := make([]string, len(r))
				for i, v := range r {
					if cells[i] = "NULL"; v != nil {
						cells[i] = cell(*v)
					}
				}
				w.row(cells...)
			}
			w.flush()
			if p.More {
				w.line("\nThere are more; --limit shows up to 100.")
			}
		})
	}
	c.Flags().IntVar(&limit, "limit", 10, "how many rows, at most 100")
	return c
}

func columnsOf(p contract.Preview) string {
	var out []string
	for _, k := range p.Columns {
		out = append(out, k.Name+" "+k.Type)
	}
	return strings.Join(out, ", ")
}

// widestCell is how many characters of a value a table of rows shows.
const widestCell = 32

// cell is a value on one line, cut where it is long.
func cell(v string) string {
	r := []rune(strings.Map(func(c rune) rune {
		if c < ' ' {
			return '·'
		}
		return c
	}, v))
	if len(r) > widestCell {
		return string(r[:widestCell-1]) + "…"
	}
	return string(r)
}

func (a *app) crossingObjects() *cobra.Command {
	var id int64
	var file string
	var leaveOut, statements bool
	c := &cobra.Command{
		Use: "objects NAME", Short: "Show what a crossing makes on the target, and what came of it; fix what failed",
		Args: exactly("the crossing's NAME"),
		Example: `  dustyferry crossing objects spring
  dustyferry crossing objects spring --id 12 --file index.sql   # write a failed one by hand
  dustyferry crossing objects spring --id 12 --leave-out
  dustyferry crossing resume spring                             # then try it`,
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		if (file != "" || leaveOut) != (id != 0) || file != "" && leaveOut {
			return exitWith(ExitUsage, "give --id of an object together with --file or --leave-out")
		}
		if id != 0 {
			var text []byte
			if file != "" {
				if text, err = os.ReadFile(file); err != nil {
					return exitWith(ExitUsage, "the statement cannot be read: %w", err)
				}
				if len(strings.TrimSpace(string(text))) == 0 {
					return exitWith(ExitUsage, "%s is empty; --leave-out leaves the object out", file)
				}
			}
			o, err := client.Do[contract.MadeObject](api.API.ChangeObjectWithResponse(cmd.Context(), args[0], id,
				contract.ChangeObjectJSONRequestBody{Statement: string(text)}))
			if err != nil {
				return err
			}
			return a.show(o, func(w *table) {
				w.line("%s %s is %s now. Where the crossing is held: dustyferry crossing resume %s", o.Kind, o.Name, o.State,
					args[0])
			})
		}
		list, err := client.Do[[]contract.MadeObject](api.API.ListObjectsWithResponse(cmd.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.show(list, func(w *table) {
			if len(list) == 0 {
				w.line("Crossing %s has made nothing yet; its objects are listed from its start on ('dustyferry crossing plan' "+
					"shows a table's statements before).", args[0])
				return
			}
			w.row(right+"ID", "MADE", "KIND", "NAME", "OF TABLE", "STATE", right+"TOOK", "ERROR")
			for _, o := range list {
				time := ""
				if o.Seconds != nil && o.State != contract.MadeObjectStateRunning {
					time = took(*o.Seconds)
				}
				w.row(right+num(o.Id), stageWords[o.Stage], o.Kind, o.Name, o.Table, string(o.State), right+time, o.Error)
				if statements {
					w.flush()
					w.line("      %s;", strings.ReplaceAll(o.Statement, "\n", "\n      "))
				}
			}
			w.flush()
		})
	}
	f := c.Flags()
	f.BoolVar(&statements, "statements", false, "show the statements")
	f.Int64Var(&id, "id", 0, "the object to change")
	f.StringVarP(&file, "file", "f", "", "file with the statement that makes it")
	f.BoolVar(&leaveOut, "leave-out", false, "do not make it")
	return c
}

// stageWords say when an object is made.
var stageWords = map[contract.MadeObjectStage]string{
	contract.MadeObjectStageTable: "at the start", contract.MadeObjectStageBefore: "before the load",
	contract.MadeObjectStageDeferred: "after the load",
	contract.MadeObjectStageAfter:    "then", contract.MadeObjectStageCarried: "last",
}
