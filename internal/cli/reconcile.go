package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) reconcileCmd() *cobra.Command {
	var depth string
	var tables []string
	var share float64
	c := &cobra.Command{
		Use: "reconcile NAME", Short: "Compare source and target at one shared log position, both live",
		Args: exactly("the crossing's NAME"),
		Long: `Compare source and target while both stay live: the applier stops between two
transactions at a known log position, and both sides are read exactly there.
Exits with 3 when something differs.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			r, err := client.Do[contract.Reconciliation](api.API.ReconcileWithResponse(cmd.Context(), args[0],
				contract.NewReconciliation{Depth: contract.NewReconciliationDepth(depth), Tables: someOf(tables),
					Share: &share}))
			if err != nil {
				return err
			}
			p := a.progress()
			r, err = awaitReconciliation(cmd.Context(), api, args[0], r.Id, p)
			p.end()
			if err != nil && cmd.Context().Err() != nil {
				return exitWith(ExitStopped,
					"reconciliation %d goes on in the service; see it with: dustyferry findings %s; end it "+
						"with: dustyferry task cancel %s ID", r.Id, args[0], args[0])
			}
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
	c.Flags().Float64Var(&share, "share", 0,
		"part of the time for which both sides are read, such as 0.2, so that it goes "+
			"on beside the application, and begins no table in quiet hours; 0: all of it, at once")
	return c
}

// awaitReconciliation waits until it has ended, showing how far it is.
func awaitReconciliation(ctx context.Context, api *client.Client, name string, id int64,
	p *progress) (contract.Reconciliation, error) {
	for {
		r, err := client.Do[contract.Reconciliation](api.API.GetReconciliationWithResponse(ctx, name, id))
		if err != nil || r.EndedAt != nil {
			return r, err
		}
		if r.State == "waiting" || r.Tables == 0 {
			p.say(-1, "bringing both sides to one log position …")
		} else {
			p.say(min(0.99, float64(r.SourceRows)/float64(max(r.RowsExpected, 1))),
				"comparing: %d of %d tables, %s of about %s rows, %s so far",
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
	w.pairs("reconciliation", fmt.Sprint(r.Id), "depth", r.Depth, "result", string(r.State), "at", r.Position, "error",
		r.Error)
	w.line("")
	w.row("TABLE", right+"SOURCE ROWS", right+"TARGET ROWS", right+"PARTS", right+"DIFFERING", right+"FINDINGS",
		right+"TOOK", "HASH")
	for _, t := range deref(r.Results) {
		hash := t.SourceHash
		if t.SourceHash != t.TargetHash {
			hash += " / " + t.TargetHash
		}
		w.row(t.Name, right+num(t.SourceRows), right+num(t.TargetRows), right+fmt.Sprint(t.Parts),
			right+fmt.Sprint(t.DifferingParts), right+num(t.Findings), right+took(t.Seconds), hash)
	}
	if r.Findings > 0 && r.Depth == "hashes" {
		w.line("\nSee the rows with: dustyferry findings %s; copy them again with: dustyferry repair %s --confirm %s", name,
			name, name)
	}
	if r.Findings > 0 && r.Depth == "counts" {
		w.line("\nIt counted rows only; which ones are missing, a comparison by hashes finds: dustyferry reconcile %s", name)
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
func lastReconciliation(ctx context.Context, api *client.Client, name string,
	id int64) (contract.Reconciliation, error) {
	if id != 0 {
		return client.Do[contract.Reconciliation](api.API.GetReconciliationWithResponse(ctx, name, id))
	}
	list, err := client.Do[[]contract.Reconciliation](api.API.ListReconciliationsWithResponse(ctx, name))
	if err != nil {
		return contract.Reconciliation{}, err
	}
	for _, r := range list {
		if r.State == "clean" || r.State == "differing" {
			return r, nil
		}
	}
	return contract.Reconciliation{}, fmt.Errorf("crossing %s has not been compared yet; run 'dustyferry reconcile %s'",
		name, name)
}

// comparison says what a comparison was.
func comparison(r contract.Reconciliation) string {
	scope := "all tables"
	if len(r.Scope) > 0 {
		scope = "tables " + strings.Join(r.Scope, ", ")
	}
	when := ""
	if r.EndedAt != nil {
		when = ", ended " + stampText(r.EndedAt)
	}
	return fmt.Sprintf("Reconciliation %d (%s, %s%s%s): %s", r.Id, r.Depth, scope, when, atPosition(r.Position), r.State)
}

func (a *app) findingsCmd() *cobra.Command {
	var id int64
	var limit, offset int
	var state, tableName string
	c := &cobra.Command{
		Use: "findings NAME", Short: "Show which rows differ, with both rows", Args: exactly("the crossing's NAME"),
		Long: `Show what a comparison found, a page at a time: which rows differ, with both rows and
spaces visible. A comparison by counts knows how many rows are missing or extra, not which.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if limit < 1 || offset < 0 {
				return exitWith(ExitUsage, "--limit is %d and --offset %d; give at least 1 and 0", limit, offset)
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			r, err := lastReconciliation(cmd.Context(), api, args[0], id)
			if err != nil {
				return err
			}
			p := &contract.ListFindingsParams{Limit: &limit, Offset: &offset, State: (*contract.FindingState)(some(state)),
				Table: some(tableName)}
			list, err := client.Do[contract.FindingPage](api.API.ListFindingsWithResponse(cmd.Context(), args[0], r.Id, p))
			if err != nil {
				return err
			}
			return a.show(list, func(w *table) { showFindings(w, args[0], r, list, offset) })
		},
	}
	f := c.Flags()
	f.Int64Var(&id, "reconciliation", 0, "number of the reconciliation (default: the last)")
	f.IntVar(&limit, "limit", 100, "how many findings a page has, up to 10000")
	f.IntVar(&offset, "offset", 0, "how many findings to skip")
	f.StringVar(&state, "state", "", "only those that are open, repaired or equal")
	f.StringVar(&tableName, "table", "", "only those of this table (schema.table)")
	return c
}

func showFindings(w *table, name string, r contract.Reconciliation, page contract.FindingPage, offset int) {
	w.line("%s.", comparison(r))
	switch {
	case r.Findings == 0:
		w.line("It found no difference.")
		return
	case r.Depth == "counts":
		w.line("It counted %s more on one side than on the other; which ones, only a comparison by hashes finds: "+
			"dustyferry reconcile %s", counted(r.Findings, "row"), name)
		for _, t := range deref(r.Results) {
			if t.Findings > 0 {
				w.row("   ", t.Name, num(t.SourceRows)+" on the source", num(t.TargetRows)+" on the target")
			}
		}
		return
	case len(page.Findings) == 0:
		w.line("It found %s; none of them is chosen by these flags.", counted(r.Findings, "difference"))
		return
	}
	w.line("Findings %s to %s of %s.%s", num(int64(offset+1)), num(int64(offset+len(page.Findings))),
		num(int64(page.Matched)), beyond(r, page))
	for _, f := range page.Findings {
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
	if next := offset + len(page.Findings); next < page.Matched {
		w.line("\n%s more: dustyferry findings %s --offset %d", num(int64(page.Matched-next)), name, next)
	}
}

// beyond says how many differences were counted without being kept.
func beyond(r contract.Reconciliation, page contract.FindingPage) string {
	if n := r.Findings - int64(page.Total); n > 0 {
		return fmt.Sprintf(" %s more were counted and not kept; repair these, and compare again.", num(n))
	}
	return ""
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
	}, "repair", "copying rows again …", func(ctx context.Context, api *client.Client, name string, id int64, only []int64,
		confirm string) error {
		_, err := client.Do[contract.Crossing](api.API.RepairWithResponse(ctx, name, id, contract.RepairJSONRequestBody{
			Findings: only, Confirm: &confirm}))
		return err
	})
}

func (a *app) recheckCmd() *cobra.Command {
	return a.findingsTask(&cobra.Command{
		Use: "recheck NAME", Short: "Compare only the rows of findings again", Args: exactly("the crossing's NAME"),
		Long: `Compare only the rows of findings again, at one shared log position, with both
sides live. Exits with 3 when one of them still differs.`,
	}, "compare again", "comparing rows again …", func(ctx context.Context, api *client.Client, name string, id int64,
		only []int64, _ string) error {
		_, err := client.Do[contract.Crossing](api.API.RecheckWithResponse(ctx, name, id, contract.RecheckJSONRequestBody{
			Findings: only}))
		return err
	})
}

// findingsTask is a command that does something with findings and says how they
// stand afterwards.
func (a *app) findingsTask(c *cobra.Command, kind, said string, do func(ctx context.Context, api *client.Client,
	name string, id int64, only []int64, confirm string) error) *cobra.Command {
	var id int64
	only := []int64{}
	confirm := new(string)
	if kind == "repair" {
		confirm = confirmFlag(c, "the crossing's name")
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		ctx, name := cmd.Context(), args[0]
		api, err := a.client()
		if err != nil {
			return err
		}
		r, err := lastReconciliation(ctx, api, name, id)
		if err != nil {
			return err
		}
		id := r.Id
		if r.Depth == "counts" && r.Findings > 0 {
			return exitWith(ExitProblem, "reconciliation %d was by counts, so it does not know which rows differ; compare by "+
				"hashes first: dustyferry reconcile %s", id, name)
		}
		word := ""
		if kind == "repair" {
			if word, err = a.confirmed(*confirm, name, "repairing rows on the target of "+name); err != nil {
				return err
			}
		}
		p := a.progress()
		p.say(-1, "%s", said)
		if err = do(ctx, api, name, id, only, word); err == nil {
			err = awaitTask(ctx, api, name, kind)
		}
		p.end()
		if err != nil {
			return err
		}
		list, err := client.Do[contract.FindingPage](api.API.ListFindingsWithResponse(ctx, name, id,
			&contract.ListFindingsParams{}))
		if err != nil {
			return err
		}
		open := list.States["open"]
		err = a.show(list, func(w *table) {
			w.line("Reconciliation %d: %s; %d open, %d repaired, %d compared again and equal.", id, counted(int64(list.Total),
				"finding"), open, list.States["repaired"], list.States["equal"])
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

// atPosition says where both sides were compared; nothing where neither has a log.
func atPosition(at string) string {
	if at == "" {
		return ""
	}
	return ", at " + at
}
