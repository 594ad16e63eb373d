package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) crossingRejected() *cobra.Command {
	p := contract.ListRejectedRowsParams{}
	var only string
	var limit int
	var cut bool
	c := &cobra.Command{
		Use: "rejected NAME", Aliases: []string{"aside"},
		Short: "List the rejected rows, which the target could not take, with the reason",
		Args:  exactly("the crossing's NAME"),
		Long: `List the rejected rows: the target could not take them, and they were set aside (setting
bad_rows: set aside). They are on the source as before. Correct them there: capture brings what
is changed; or compare, and repair what is found missing.

With --cut it lists rows that landed, with a value that was cut to the length that a rule
allows (longest and cut; see 'dustyferry crossing rules').`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			p.Table, p.Limit, p.Cut = &only, &limit, &cut
			out, err := client.Do[contract.RejectedRowsPage](api.API.ListRejectedRowsWithResponse(cmd.Context(), args[0], &p))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				if out.Total == 0 && cut {
					w.line("No value of %s was cut.", args[0])
					return
				}
				if out.Total == 0 {
					w.line("No row of %s was rejected.", args[0])
					return
				}
				w.row("TABLE", "CHUNK", "KEY", "WHAT", "WHY")
				for _, r := range out.Rows {
					key := "none"
					if r.Key != nil {
						key = strings.Join(*r.Key, ", ")
					}
					w.row(r.Table, num(int64(r.Chunk)), key, clip(rejectedText(r), 48), r.Error)
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

// rejectedText shows the value that the error is about, or else the row.
func rejectedText(r contract.RejectedRow) string {
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
