package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) crossingAside() *cobra.Command {
	p := contract.ListSetAsideParams{}
	var only string
	var limit int
	var cut bool
	c := &cobra.Command{
		Use: "aside NAME", Short: "List the rows that the target could not take and that were set aside",
		Args: exactly("the crossing's NAME"),
		Long: `List the rows that were set aside (setting bad_rows: set aside) because the target could
not take them, with the reason. They are on the source as before. Correct them there: capture
brings what is changed; or compare, and repair what is found missing.

With --cut it lists rows that landed, with a value that was cut to the length that a rule
allows (longest and cut; see 'dustyferry crossing rules').`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			p.Table, p.Limit, p.Cut = &only, &limit, &cut
			out, err := client.Do[contract.AsidePage](api.API.ListSetAsideWithResponse(cmd.Context(), args[0], &p))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				if out.Total == 0 && cut {
					w.line("No value of %s was cut.", args[0])
					return
				}
				if out.Total == 0 {
					w.line("No row of %s was set aside.", args[0])
					return
				}
				w.row("TABLE", "CHUNK", "KEY", "WHAT", "WHY")
				for _, r := range out.Rows {
					key := "none"
					if r.Key != nil {
						key = strings.Join(*r.Key, ", ")
					}
					w.row(r.Table, num(int64(r.Chunk)), key, clip(asideText(r), 48), r.Error)
				}
				if out.Total > len(out.Rows) {
					w.line("%d of %d rows; --limit shows more.", len(out.Rows), out.Total)
				}
			})
		},
	}
	c.Flags().StringVar(&only, "table", "", "only of this table (schema.table)")
	c.Flags().BoolVar(&cut, "cut", false, "rows that landed with a value cut instead")
	c.Flags().IntVar(&limit, "limit", 100, "how many rows, at most 1000")
	return c
}

// asideText shows the value that the error is about, or else the row.
func asideText(r contract.AsideRow) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(r.Row)) {
		if r.Column != "" && name != r.Column {
			continue
		}
		v := "NULL"
		if r.Row[name] != nil {
			v = *r.Row[name]
		}
		out = append(out, name+" "+v)
	}
	return strings.Join(out, ", ")
}
