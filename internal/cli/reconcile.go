package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/internal/client"
	"dustyferry/internal/contract"
)

func (a *app) reconcileCmd() *cobra.Command {
	var depth string
	var tables []string
	c := &cobra.Command{
		Use: "reconcile NAME", Short: "Compare source and target at one shared log position, both live", Args: exactly("the crossing's NAME"),
		Long: `Compare source and target while both stay live: the applier stops between two
transactions at a known log position, and both sides are read exactly there.
Exits with 3 when something differs.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			r, err := client.Do[contract.Reconciliation](api.API.ReconcileWithResponse(cmd.Context(), args[0],
				contract.NewReconciliation{Depth: contract.NewReconciliationDepth(depth), Tables: &tables}))
			if err != nil {
				return err
			}
			p := a.progress()
			r, err = awaitReconciliation(cmd.Context(), api, args[0], r.Id, p)
			p.end()
			if err != nil {
				return err
			}
			if err := a.show(r, func(w *table) { showReconciliation(w, args[0], r) }); err != nil {
				return err
			}
			switch {
			case r.State == "failed":
				return exitWith(ExitProblem, "the comparison failed: %s", r.Error)
			case r.Findings > 0:
				return exitWith(ExitFindings, "source and target differ: %s", counted(r.Findings, "finding"))
			}
			return nil
		},
	}
	c.Flags().StringVar(&depth, "depth", "hashes", "how far to look: hashes (to rows and columns) or counts")
	c.Flags().StringArrayVar(&tables, "table", nil, "only tables matching this pattern; repeatable")
	return c
}

// awaitReconciliation waits until it has ended, showing how far it is.
func awaitReconciliation(ctx context.Context, api *client.Client, name string, id int64, p *progress) (contract.Reconciliation, error) {
	for {
		r, err := client.Do[contract.Reconciliation](api.API.GetReconciliationWithResponse(ctx, name, id))
		if err != nil || r.EndedAt != nil {
			return r, err
		}
		if r.State == "waiting" || r.Tables == 0 {
			p.say(-1, "bringing both sides to one log position …")
		} else {
			p.say(min(0.99, float64(r.SourceRows)/float64(max(r.RowsExpected, 1))), "comparing: %d of %d tables, %s of about %s rows, %s so far",
				r.TablesDone, r.Tables, num(r.SourceRows), num(r.RowsExpected), counted(r.Findings, "finding"))
		}
		if err := pause(ctx, 300*time.Millisecond); err != nil {
			return r, err
		}
	}
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

func showReconciliation(w *table, name string, r contract.Reconciliation) {
	w.pairs("reconciliation", fmt.Sprint(r.Id), "depth", r.Depth, "result", string(r.State), "at", r.Position, "error", r.Error)
	w.line("")
	w.row("TABLE", right+"SOURCE ROWS", right+"TARGET ROWS", right+"PARTS", right+"DIFFERING", right+"FINDINGS", right+"TOOK", "HASH")
	for _, t := range deref(r.Results) {
		hash := t.SourceHash
		if t.SourceHash != t.TargetHash {
			hash += " / " + t.TargetHash
		}
		w.row(t.Name, right+num(t.SourceRows), right+num(t.TargetRows), right+fmt.Sprint(t.Parts), right+fmt.Sprint(t.DifferingParts), right+num(t.Findings), right+took(t.Seconds), hash)
	}
	if r.Findings > 0 && r.Depth == "hashes" {
		w.line("\nSee the rows with: dustyferry findings %s; copy them again with: dustyferry repair %s", name, name)
	}
}

// counted writes a number of things, one in the singular.
func counted(n int64, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return num(n) + " " + thing + "s"
}

// lastReconciliation finds the newest one that ended, or the one asked for.
func lastReconciliation(ctx context.Context, api *client.Client, name string, id int64) (int64, error) {
	if id != 0 {
		return id, nil
	}
	list, err := client.Do[[]contract.Reconciliation](api.API.ListReconciliationsWithResponse(ctx, name))
	if err != nil {
		return 0, err
	}
	for _, r := range list {
		if r.EndedAt != nil && r.Depth == "hashes" {
			return r.Id, nil
		}
	}
	return 0, fmt.Errorf("crossing %s has not been compared yet; run 'dustyferry reconcile %s'", name, name)
}

func (a *app) findingsCmd() *cobra.Command {
	var id int64
	c := &cobra.Command{
		Use: "findings NAME", Short: "Show which rows differ, with both rows", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if id, err = lastReconciliation(cmd.Context(), api, args[0], id); err != nil {
				return err
			}
			list, err := client.Do[contract.FindingPage](api.API.ListFindingsWithResponse(cmd.Context(), args[0], id, &contract.ListFindingsParams{}))
			if err != nil {
				return err
			}
			return a.show(list, func(w *table) { showFindings(w, id, list.Findings) })
		},
	}
	c.Flags().Int64Var(&id, "reconciliation", 0, "number of the reconciliation (default: the last)")
	return c
}

func showFindings(w *table, id int64, list []contract.Finding) {
	if len(list) == 0 {
		w.line("Reconciliation %d found no difference.", id)
		return
	}
	for _, f := range list {
		key := strings.Join(f.Key, ", ")
		if key != "" {
			key = " key (" + key + ")"
		}
		copies := ""
		if f.Copies > 1 {
			copies = fmt.Sprintf(", %d copies", f.Copies)
		}
		w.line("#%d %s%s: %s%s (%s)", f.Id, f.Table, key, f.Kind, copies, f.State)
		cols := f.Columns
		if len(cols) == 0 {
			cols = f.Order
		}
		for _, k := range cols {
			w.row("   ", k, "source", visible(f.Source, k), "target", visible(f.Target, k))
		}
		w.flush()
	}
}

// visible shows a value so that spaces and control characters can be seen.
func visible(row map[string]*string, col string) string {
	if len(row) == 0 {
		return "(no row)"
	}
	v := row[col]
	if v == nil {
		return "NULL"
	}
	q := fmt.Sprintf("%q", *v)
	if len([]rune(q)) > 60 {
		q = string([]rune(q)[:57]) + "…\""
	}
	return q
}

func (a *app) repairCmd() *cobra.Command {
	return a.findingsTask(&cobra.Command{
		Use: "repair NAME", Short: "Copy the rows of findings again", Args: exactly("the crossing's NAME"),
		Long: `Copy the rows of findings again, while the applier stands still at a shared log
position; then look at them again with 'dustyferry recheck', or compare
everything with 'dustyferry reconcile'.`,
	}, "repair", "copying rows again …", func(ctx context.Context, api *client.Client, name string, id int64, only []int64) error {
		_, err := client.Do[contract.Crossing](api.API.RepairWithResponse(ctx, name, id, contract.RepairJSONRequestBody{Findings: only}))
		return err
	})
}

func (a *app) recheckCmd() *cobra.Command {
	return a.findingsTask(&cobra.Command{
		Use: "recheck NAME", Short: "Compare only the rows of findings again", Args: exactly("the crossing's NAME"),
		Long: `Compare only the rows of findings again, at one shared log position, with both
sides live. Exits with 3 when one of them still differs.`,
	}, "compare again", "comparing rows again …", func(ctx context.Context, api *client.Client, name string, id int64, only []int64) error {
		_, err := client.Do[contract.Crossing](api.API.RecheckWithResponse(ctx, name, id, contract.RecheckJSONRequestBody{Findings: only}))
		return err
	})
}

// findingsTask is a command that does something with findings and says how they
// stand afterwards.
func (a *app) findingsTask(c *cobra.Command, kind, said string, do func(ctx context.Context, api *client.Client, name string, id int64, only []int64) error) *cobra.Command {
	var id int64
	only := []int64{}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		ctx, name := cmd.Context(), args[0]
		api, err := a.client()
		if err != nil {
			return err
		}
		if id, err = lastReconciliation(ctx, api, name, id); err != nil {
			return err
		}
		p := a.progress()
		p.say(-1, "%s", said)
		if err = do(ctx, api, name, id, only); err == nil {
			err = awaitTask(ctx, api, name, kind)
		}
		p.end()
		if err != nil {
			return err
		}
		list, err := client.Do[contract.FindingPage](api.API.ListFindingsWithResponse(ctx, name, id, &contract.ListFindingsParams{}))
		if err != nil {
			return err
		}
		open := list.States["open"]
		err = a.show(list, func(w *table) {
			w.line("Reconciliation %d: %s; %d open, %d repaired, %d compared again and equal.", id, counted(int64(list.Total), "finding"), open, list.States["repaired"], list.States["equal"])
			if list.States["repaired"] > 0 {
				w.line("Compare the repaired rows again with: dustyferry recheck %s", name)
			}
		})
		if err == nil && kind == "compare again" && open > 0 {
			return exitWith(ExitFindings, "%s still open", counted(int64(open), "finding"))
		}
		return err
	}
	c.Flags().Int64Var(&id, "reconciliation", 0, "number of the reconciliation (default: the last)")
	c.Flags().Int64SliceVar(&only, "finding", []int64{}, "only these findings, by number (default: all)")
	return c
}

// awaitTask waits for the crossing's newest task of a kind.
func awaitTask(ctx context.Context, api *client.Client, name, kind string) error {
	return followTask(ctx, api, name, kind, func(string) {})
}

// followTask is [awaitTask] that tells what the task notes.
func followTask(ctx context.Context, api *client.Client, name, kind string, tell func(note string)) error {
	for {
		list, err := client.Do[[]contract.Task](api.API.ListTasksWithResponse(ctx, name))
		if err != nil {
			return err
		}
		i := slices.IndexFunc(list, func(t contract.Task) bool { return t.Kind == kind })
		if i >= 0 && list[i].EndedAt != nil {
			if list[i].State != "done" {
				return errors.New(list[i].Error)
			}
			return nil
		}
		if i >= 0 && list[i].Note != "" {
			tell(list[i].Note)
		}
		if err := pause(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
}
