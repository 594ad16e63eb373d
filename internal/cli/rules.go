package cli

import (
	"encoding/json"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/manifest"
)

func (a *app) crossingRules() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "rules NAME", Short: "Show or replace the rules by which tables are planned",
		Args: exactly("the crossing's NAME"),
		Long: `Without --file it shows the rules. With it, it replaces them, before the crossing
has started; survey and fit check begin anew. The file is the list that a manifest
has under crossing.rules:

  - tables: shop.*            # of several rules that match, a later one wins
    schema: honey
  - tables: shop.keepers
    name: members
    watermark: changed_at       # a repeated load reads only rows past it
    overlap: 10m                # and again those written so long before
    columns:
      email: {leave_out: true}
      weight: {type: "numeric(12,3)"}
      nick: {name: nickname}
      photo: {longest: 1000000, cut: true}   # bytes; without cut, longer values are refused
  - tables: "*"
    columns:
      "*": {longest: 50000000}  # every column of texts or bytes of any length`,
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		cr, err := replanned(cmd, api, args[0], file, func(cr contract.Crossing, text []byte) (
			body contract.ChooseTablesJSONRequestBody, err error) {
			list, err := manifest.ParseRules(text)
			if err != nil {
				return body, err
			}
			rules, err := like[[]contract.Rule](list)
			return contract.ChooseTablesJSONRequestBody{Patterns: cr.Tables, Rules: &rules}, err
		})
		if err != nil {
			return err
		}
		return a.show(cr.Rules, func(w *table) { showRules(w, cr) })
	}
	c.Flags().StringVarP(&file, "file", "f", "", "file with the rules that replace those there are")
	return c
}

// replanned returns a crossing, planned anew from a file if there is one.
func replanned(cmd *cobra.Command, api *client.Client, name, file string, read func(contract.Crossing,
	[]byte) (contract.ChooseTablesJSONRequestBody, error)) (contract.Crossing, error) {
	cr, err := client.Do[contract.Crossing](api.API.GetCrossingWithResponse(cmd.Context(), name))
	if err != nil || file == "" {
		return cr, err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return cr, exitWith(ExitUsage, "the file cannot be read: %w", err)
	}
	body, err := read(cr, text)
	if err != nil {
		return cr, exitWith(ExitUsage, "%s: %w", file, err)
	}
	return client.Do[contract.Crossing](api.API.ChooseTablesWithResponse(cmd.Context(), name, body))
}

// like brings a value to the API's form, which has the same names.
func like[T any](v any) (T, error) {
	var out T
	text, err := json.Marshal(v)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	return out, err
}

func showRules(w *table, c contract.Crossing) {
	if len(c.Rules) == 0 {
		w.line("Crossing %s has no rules: tables keep their names, and columns get the types that the survey names.", c.Name)
		return
	}
	ruleRows(w, c.Rules)
	w.line("\nSee what they do with: dustyferry survey %s", c.Name)
}

// ruleRows shows rules, a line for each change.
func ruleRows(w *table, rules []contract.Rule) {
	w.row(right+"RULE", "TABLES", "CHANGE")
	for i, r := range rules {
		n := right + num(int64(i+1))
		change := func(text string) {
			w.row(n, r.Tables, text)
			n = ""
		}
		if r.Schema != nil {
			change("schema " + *r.Schema)
		}
		if r.Name != nil {
			change("name " + *r.Name)
		}
		if r.Where != nil {
			change("only rows where " + *r.Where)
		}
		if r.Watermark != nil {
			text := "watermark " + *r.Watermark
			if r.Overlap != nil {
				text += ", overlap " + *r.Overlap
			}
			change(text)
		}
		if r.ExistingRows != nil {
			change("existing rows: " + string(*r.ExistingRows))
		}
		statements := deref(r.Statements)
		for _, what := range slices.Sorted(maps.Keys(statements)) {
			if statements[what] == "" {
				change(what + " is not made")
			} else {
				change(what + " is made by hand: " + strings.Join(strings.Fields(statements[what]), " "))
			}
		}
		if r.Note != nil {
			change("note: " + *r.Note)
		}
		columns := deref(r.Columns)
		for _, name := range slices.Sorted(maps.Keys(columns)) {
			k := columns[name]
			text := "column " + name
			if k.LeaveOut != nil && *k.LeaveOut {
				text += " is left out"
			}
			if k.Name != nil {
				text += " becomes " + *k.Name
			}
			if k.Type != nil {
				text += " as " + *k.Type
			}
			if k.Expression != nil {
				text += " is read as " + *k.Expression
			}
			if k.Mask != nil {
				text += " is masked by the key " + *k.Mask
			}
			if k.Value != nil {
				text += " is always '" + *k.Value + "'"
			}
			if k.Longest != nil && *k.Longest > 0 {
				if name == "*" {
					text = "every long column"
				}
				text += " holds at most " + size(*k.Longest)
				if k.Cut != nil && *k.Cut {
					text += ", longer values are cut"
				}
			}
			change(text)
		}
	}
	w.flush()
}
