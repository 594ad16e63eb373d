package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) cutoverCmd() *cobra.Command {
	c := &cobra.Command{Use: "cutover", Short: "Rehearse, start, abort a cutover; see whether it is safe"}
	c.AddCommand(a.cutoverReady(), a.cutoverRun(true), a.cutoverRun(false), a.cutoverShow(),
		a.cutoverSay("abort", "Undo the cutover under way: the source takes writes again"),
		a.cutoverSay("confirm", "Let a cutover go on that waits for a person: at a hold point, or for your word that "+
			"writes have stopped"))
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
			blocks := count(list, contract.Blocker)
			err = a.show(list, func(w *table) {
				entries(w, list)
				if blocks == 0 {
					next := "Rehearse with: dustyferry cutover rehearse " + args[0]
					if slices.ContainsFunc(list, func(e contract.Entry) bool {
						return e.Topic == "write pause" && e.Verdict == contract.Ok // as a rehearsal measured it
					}) {
						next = "Cut over with: dustyferry cutover start " + args[0]
					}
					w.line("\nAll %d readiness checks pass. %s", len(list), next)
				}
			})
			if err == nil && blocks > 0 {
				return exitWith(ExitHeld, "%s of the cutover of %s: see what blocks above", counted(int64(blocks), "check")+
					" stands in the way", args[0])
			}
			return err
		},
	}
}

// count is how many entries have a verdict.
func count(list []contract.Entry, v contract.Verdict) int {
	n := 0
	for _, e := range list {
		if e.Verdict == v {
			n++
		}
	}
	return n
}

func (a *app) cutoverRun(rehearsal bool) *cobra.Command {
	var confirm string
	c := &cobra.Command{Args: exactly("the crossing's NAME")}
	if rehearsal {
		c.Use, c.Short = "rehearse NAME", "Carry a cutover out up to what cannot be undone, and undo it: predicts the "+
			"write pause"
	} else {
		c.Use, c.Short = "start NAME", "Stop writes, drain, compare, hand over to the target"
		c.Example = "  dustyferry cutover start spring --confirm spring"
		c.Flags().StringVar(&confirm, "confirm", "", "the crossing's name once more: writes to the source will stop; asked "+
			"for on a terminal")
	}
	settings := settingFlags(c, ofCutover)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		set, err := settings()
		if err != nil {
			return err
		}
		body := contract.NewCutover{Rehearsal: rehearsal, Settings: set}
		if !rehearsal {
			word, err := a.confirmed(confirm, args[0], "a cutover, which stops writes to the source and hands over,")
			if err != nil {
				return err
			}
			body.Confirm = &word
		}
		k, err := client.Do[contract.Cutover](api.API.CutoverWithResponse(cmd.Context(), args[0], body))
		if err != nil {
			return err
		}
		p := a.progress()
		k, err = awaitCutover(cmd.Context(), api, args[0], k.Id, p)
		p.end()
		switch {
		case err != nil && cmd.Context().Err() != nil:
			return exitWith(ExitStopped, "%s of %s goes on in the service; see it with: dustyferry cutover show %s; undo it "+
				"with: dustyferry cutover abort %s",
				cutoverWord(k), args[0], args[0], args[0])
		case err != nil:
			return err
		case k.WaitsFor != "":
			return exitWith(ExitHeld, "%s of %s is %s; let it go on with: dustyferry cutover confirm %s; undo it with: "+
				"dustyferry cutover abort %s",
				cutoverWord(k), args[0], k.WaitsFor, args[0], args[0])
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

// awaitCutover waits until it has ended or waits for a person, showing the step under way.
// What is known of it is returned also with an error.
func awaitCutover(ctx context.Context, api *client.Client, name string, id int64,
	p *progress) (contract.Cutover, error) {
	var last contract.Cutover
	for {
		list, err := client.Do[[]contract.Cutover](api.API.ListCutoversWithResponse(ctx, name))
		if err != nil {
			return last, err
		}
		for _, k := range list {
			if k.Id != id {
				continue
			}
			if last = k; k.EndedAt != nil || k.WaitsFor != "" {
				return k, nil
			}
			sayStep(p, k)
		}
		if err := pause(ctx, 200*time.Millisecond); err != nil {
			return last, err
		}
	}
}

func sayStep(p *progress, k contract.Cutover) {
	for i, s := range k.Steps {
		if s.State != "running" {
			continue
		}
		pause := ""
		if k.WritePauseSeconds != nil {
			pause = fmt.Sprintf("; writes have been paused for %s of %s", took(*k.WritePauseSeconds), took(k.PauseBudgetSeconds))
		}
		p.say(float64(i)/float64(len(k.Steps)), "%s, %s%s%s", s.Name, took(deref(s.Seconds)), prefixed(": ", s.Note), pause)
	}
}

func prefixed(p, s string) string {
	if s == "" {
		return ""
	}
	return p + s
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
	w.pairs(what, fmt.Sprintf("%d by %s", k.Id, k.Actor), "result", string(k.State), "because", k.Error, "end position",
		k.EndPosition, "write pause", pauseText)
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
				return fmt.Errorf("crossing %s has neither been cut over nor rehearsed; see 'dustyferry cutover ready %s'", args[0],
					args[0])
			}
			return a.show(list[0], func(w *table) { showCutover(w, list[0]) })
		},
	}
}

func (a *app) cutoverSay(word, short string) *cobra.Command {
	said := "Confirmed. The cutover goes on."
	if word == "abort" {
		said = "The cutover is being undone; the source takes writes again when it is."
	}
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
			return a.show(map[string]string{word: args[0]}, func(w *table) {
				w.line("%s See it with: dustyferry cutover show %s", said, args[0])
			})
		},
	}
}
