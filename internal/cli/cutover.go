package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/internal/client"
	"dustyferry/internal/contract"
)

func (a *app) cutoverCmd() *cobra.Command {
	c := &cobra.Command{Use: "cutover", Short: "Rehearse, start, abort a cutover; see whether it is safe"}
	c.AddCommand(a.cutoverReady(), a.cutoverRun(true), a.cutoverRun(false), a.cutoverShow(), a.cutoverSay("abort", "Undo the cutover under way: the source takes writes again"),
		a.cutoverSay("confirm", "Let a cutover go on that waits for a person: at a hold point, or for your word that writes have stopped"))
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
		p := a.progress()
		k, err = awaitCutover(cmd.Context(), api, args[0], k.Id, p)
		p.end()
		if err != nil {
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

// awaitCutover waits until it has ended, showing the step under way.
func awaitCutover(ctx context.Context, api *client.Client, name string, id int64, p *progress) (contract.Cutover, error) {
	for {
		list, err := client.Do[[]contract.Cutover](api.API.ListCutoversWithResponse(ctx, name))
		if err != nil {
			return contract.Cutover{}, err
		}
		for _, k := range list {
			if k.Id == id && k.EndedAt != nil {
				return k, nil
			}
			if k.Id == id {
				sayStep(p, k)
			}
		}
		if err := pause(ctx, 200*time.Millisecond); err != nil {
			return contract.Cutover{}, err
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
