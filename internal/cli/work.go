package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
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
			if r, err = awaitReconciliation(cmd.Context(), api, args[0], r.Id); err != nil {
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

func awaitReconciliation(ctx context.Context, api *client.Client, name string, id int64) (contract.Reconciliation, error) {
	for {
		r, err := client.Do[contract.Reconciliation](api.API.GetReconciliationWithResponse(ctx, name, id))
		if err != nil || r.EndedAt != nil {
			return r, err
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
			list, err := client.Do[[]contract.Finding](api.API.ListFindingsWithResponse(cmd.Context(), args[0], id, &contract.ListFindingsParams{}))
			if err != nil {
				return err
			}
			return a.show(list, func(w *table) { showFindings(w, id, list) })
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
		var cols []string
		if len(f.Columns) > 0 {
			cols = f.Columns
		} else {
			for k := range f.Source {
				cols = append(cols, k)
			}
			for k := range f.Target {
				if !slices.Contains(cols, k) {
					cols = append(cols, k)
				}
			}
			sort.Strings(cols)
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
	var id int64
	var only []int64
	c := &cobra.Command{
		Use: "repair NAME", Short: "Copy the rows of findings again", Args: exactly("the crossing's NAME"),
		Long: `Copy the rows of findings again, while the applier stands still at a shared log
position; then compare again with 'dustyferry reconcile'.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if id, err = lastReconciliation(cmd.Context(), api, args[0], id); err != nil {
				return err
			}
			if only == nil {
				only = []int64{}
			}
			if _, err := client.Do[contract.Crossing](api.API.RepairWithResponse(cmd.Context(), args[0], id, contract.RepairJSONRequestBody{Findings: only})); err != nil {
				return err
			}
			if err := awaitTask(cmd.Context(), api, args[0], "repair"); err != nil {
				return err
			}
			list, err := client.Do[[]contract.Finding](api.API.ListFindingsWithResponse(cmd.Context(), args[0], id, &contract.ListFindingsParams{}))
			if err != nil {
				return err
			}
			done := 0
			for _, f := range list {
				if f.State == "repaired" {
					done++
				}
			}
			return a.show(list, func(w *table) {
				w.line("%d of %d findings of reconciliation %d are repaired. Compare again with: dustyferry reconcile %s", done, len(list), id, args[0])
			})
		},
	}
	c.Flags().Int64Var(&id, "reconciliation", 0, "number of the reconciliation (default: the last)")
	c.Flags().Int64SliceVar(&only, "finding", nil, "only these findings, by number (default: all open ones)")
	return c
}

// awaitTask waits for the crossing's newest task of a kind.
func awaitTask(ctx context.Context, api *client.Client, name, kind string) error {
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
		if err := pause(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
}

func (a *app) cutoverCmd() *cobra.Command {
	c := &cobra.Command{Use: "cutover", Short: "Rehearse, start, abort a cutover; see whether it is safe"}
	c.AddCommand(a.cutoverReady(), a.cutoverRun(true), a.cutoverRun(false), a.cutoverShow(), a.cutoverSay("abort", "Undo the cutover under way: the source takes writes again"),
		a.cutoverSay("confirm", "Give your word that writes to the source have stopped (stop method word)"))
	return c
}

func (a *app) cutoverReady() *cobra.Command {
	return &cobra.Command{
		Use: "ready NAME", Short: "Show the readiness list", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			list, err := client.Do[[]contract.Entry](api.API.GetReadinessWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(list, func(w *table) { entries(w, list) })
		},
	}
}

func (a *app) cutoverRun(rehearsal bool) *cobra.Command {
	var confirm string
	c := &cobra.Command{Args: exactly("the crossing's NAME")}
	if rehearsal {
		c.Use, c.Short = "rehearse NAME", "Carry a cutover out up to what cannot be undone, and undo it: predicts the write pause"
	} else {
		c.Use, c.Short = "start NAME", "Stop writes, drain, compare, hand over to the target"
		c.Example = "  dustyferry cutover start spring --confirm spring"
		c.Flags().StringVar(&confirm, "confirm", "", "the crossing's name once more: writes to the source will stop")
	}
	settings := settingFlags(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		set, err := settings()
		if err != nil {
			return err
		}
		k, err := client.Do[contract.Cutover](api.API.CutoverWithResponse(cmd.Context(), args[0], contract.NewCutover{Rehearsal: rehearsal, Confirm: &confirm, Settings: set}))
		if err != nil {
			return err
		}
		if k, err = awaitCutover(cmd.Context(), api, args[0], k.Id); err != nil {
			return err
		}
		if err := a.show(k, func(w *table) { showCutover(w, k) }); err != nil {
			return err
		}
		if k.State != "done" {
			return exitWith(ExitUndone, "%s was undone, the source takes writes: %s", cutoverWord(k), k.Error)
		}
		return nil
	}
	return c
}

func cutoverWord(k contract.Cutover) string {
	if k.Rehearsal {
		return "the rehearsal"
	}
	return "the cutover"
}

func awaitCutover(ctx context.Context, api *client.Client, name string, id int64) (contract.Cutover, error) {
	for {
		list, err := client.Do[[]contract.Cutover](api.API.ListCutoversWithResponse(ctx, name))
		if err != nil {
			return contract.Cutover{}, err
		}
		for _, k := range list {
			if k.Id == id && k.EndedAt != nil {
				return k, nil
			}
		}
		if err := pause(ctx, 200*time.Millisecond); err != nil {
			return contract.Cutover{}, err
		}
	}
}

func showCutover(w *table, k contract.Cutover) {
	what := "cutover"
	if k.Rehearsal {
		what = "rehearsal"
	}
	pauseText := ""
	if k.WritePauseSeconds != nil {
		pauseText = took(*k.WritePauseSeconds)
	}
	w.pairs(what, fmt.Sprintf("%d by %s", k.Id, k.Actor), "result", string(k.State), "because", k.Error, "end position", k.EndPosition, "write pause", pauseText)
	w.line("")
	w.row("STEP", "STATE", right+"TOOK", "NOTE")
	for _, s := range k.Steps {
		t := ""
		if s.Seconds != nil {
			t = took(*s.Seconds)
		}
		w.row(s.Name, string(s.State), right+t, s.Note)
	}
}

func (a *app) cutoverShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show the newest cutover or rehearsal, step by step", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			list, err := client.Do[[]contract.Cutover](api.API.ListCutoversWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if len(list) == 0 {
				return fmt.Errorf("crossing %s has neither been cut over nor rehearsed; see 'dustyferry cutover ready %s'", args[0], args[0])
			}
			return a.show(list[0], func(w *table) { showCutover(w, list[0]) })
		},
	}
}

func (a *app) cutoverSay(word, short string) *cobra.Command {
	return &cobra.Command{
		Use: word + " NAME", Short: short, Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if word == "abort" {
				_, err = client.Do[struct{}](api.API.AbortCutoverWithResponse(cmd.Context(), args[0]))
			} else {
				_, err = client.Do[struct{}](api.API.ConfirmCutoverWithResponse(cmd.Context(), args[0]))
			}
			if err != nil {
				return err
			}
			return a.show(map[string]string{word: args[0]}, func(w *table) { w.line("Understood (%s). See: dustyferry cutover show %s", word, args[0]) })
		},
	}
}

func (a *app) certificateCmd() *cobra.Command {
	return &cobra.Command{
		Use: "certificate NAME", Short: "Show the account of a closed crossing", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			cert, err := client.Do[map[string]any](api.API.GetCertificateWithResponse(cmd.Context(), args[0], &contract.GetCertificateParams{}))
			if err != nil {
				return err
			}
			format := "text"
			text, err := client.Do[string](api.API.GetCertificateWithResponse(cmd.Context(), args[0], &contract.GetCertificateParams{Format: &format}))
			if err != nil {
				return err
			}
			return a.show(cert, func(w *table) { w.line("%s", strings.TrimRight(text, "\n")) })
		},
	}
}

func (a *app) journalCmd() *cobra.Command {
	var crossing string
	var limit int
	c := &cobra.Command{
		Use: "journal", Short: "Show who did what when", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			p := &contract.ListJournalParams{Limit: &limit}
			if crossing != "" {
				p.Crossing = &crossing
			}
			list, err := client.Do[[]contract.JournalEntry](api.API.ListJournalWithResponse(cmd.Context(), p))
			if err != nil {
				return err
			}
			slices.Reverse(list)
			return a.show(list, func(w *table) {
				for _, e := range list {
					mark := map[contract.JournalEntrySeverity]string{"info": "", "warning": "warning", "error": "ERROR"}[e.Severity]
					w.row(stampText(&e.At), e.Crossing, e.Actor, mark, e.Message)
				}
			})
		},
	}
	c.Flags().StringVar(&crossing, "crossing", "", "only of this crossing")
	c.Flags().IntVar(&limit, "last", 50, "how many of the newest entries")
	return c
}

func (a *app) tokenCmd() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Make, list and revoke access tokens (admins)"}
	var role string
	add := &cobra.Command{
		Use: "add NAME", Short: "Make a token; it is shown this once", Args: exactly("the token's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			t, err := client.Do[contract.Token](api.API.AddTokenWithResponse(cmd.Context(), contract.AddTokenJSONRequestBody{Name: args[0], Role: contract.Role(role)}))
			if err != nil {
				return err
			}
			return a.show(t, func(w *table) {
				w.pairs("name", t.Name, "role", string(t.Role), "token", deref(t.Token))
				w.line("Keep it: it is not shown again.")
			})
		},
	}
	add.Flags().StringVar(&role, "role", "viewer", "viewer, operator or admin")
	list := &cobra.Command{
		Use: "list", Short: "List tokens without their secrets", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			all, err := client.Do[[]contract.Token](api.API.ListTokensWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.show(all, func(w *table) {
				w.row("NAME", "ROLE", "CREATED", "LAST USED")
				for _, t := range all {
					w.row(t.Name, string(t.Role), stampText(&t.CreatedAt), stampText(t.UsedAt))
				}
			})
		},
	}
	revoke := &cobra.Command{
		Use: "revoke NAME", Short: "Revoke a token and end its sessions", Args: exactly("the token's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if _, err := client.Do[struct{}](api.API.RemoveTokenWithResponse(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.show(map[string]string{"revoked": args[0]}, func(w *table) { w.line("Token %s is revoked.", args[0]) })
		},
	}
	c.AddCommand(add, list, revoke)
	return c
}
