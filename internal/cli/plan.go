package cli

import (
	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) crossingPlan() *cobra.Command {
	var statements bool
	c := &cobra.Command{
		Use: "plan NAME TABLE", Short: "Show what will happen to one table: columns of both sides, and the statements",
		Example: "  dustyferry crossing plan spring saltmarsh.keepers --statements",
		Args:    exactly("the crossing's NAME", "the TABLE (schema.table)"),
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		p, err := client.Do[contract.TablePlan](api.API.GetPlanWithResponse(cmd.Context(), args[0],
			&contract.GetPlanParams{Table: args[1]}))
		if err != nil {
			return err
		}
		return a.show(p, func(w *table) {
			makes := "a table is made"
			if p.TargetStands {
				makes = "the standing table is used"
			}
			w.line("%s becomes %s (%s), about %s in %s.\n", p.Source, p.Target, makes, counted(p.Rows, "row"),
				counted(int64(p.Chunks), "chunk"))
			w.row("COLUMN", "ON THE SOURCE", "ON THE TARGET", "TYPE THERE", "VERDICT", "NOTE")
			for _, k := range p.Columns {
				verdict := k.Mapping
				switch {
				case k.Verdict == contract.Blocker:
					verdict = "blocker"
				case k.Mapping == "":
					verdict = "left out"
				}
				w.row(k.Name, k.SourceType, k.TargetName, k.TargetType, verdict, k.Note)
			}
			w.flush()
			entries(w, p.Notes)
			if !statements {
				if n := len(p.First) + len(p.Later); n > 0 {
					w.line("\n%s on the target; --statements shows them.", counted(int64(n), "statement"))
				}
				return
			}
			for _, part := range []struct {
				when string
				list []contract.PlannedObject
			}{{"before", p.First}, {"after", p.Later}} {
				if len(part.list) > 0 {
					w.line("\n-- %s the load", part.when)
				}
				for _, o := range part.list {
					w.line("%s;", o.Statement)
				}
			}
		})
	}
	c.Flags().BoolVar(&statements, "statements", false, "show the statements run on the target")
	return c
}
