package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) watchCmd() *cobra.Command {
	return &cobra.Command{
		Use: "watch NAME", Short: "Watch a crossing live: progress, rates, lag, what is stuck",
		Args: exactly("the crossing's NAME"),
		Long: `Watch a crossing live. On a terminal it fills the window: bars over all and per
table, rates, remaining time, lag as a chart, lanes, what is stuck. Keys: arrows
scroll the tables, p pauses, r resumes, q leaves. When the output is not a
terminal, a line is printed whenever something moved. Ends when the crossing is
closed, or with Ctrl-C. NO_COLOR turns colours off.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			return a.follow(cmd.Context(), api, args[0], contract.PhaseClosed)
		},
	}
}

// follow watches until the crossing is in the wanted phase, waits for a person,
// or the context ends.
func (a *app) follow(ctx context.Context, api *client.Client, name string, want contract.Phase) error {
	if _, err := client.Do[contract.Crossing](api.API.GetCrossingWithResponse(ctx, name)); err != nil {
		return err
	}
	f, onTerminal := a.out.(*os.File)
	onTerminal = onTerminal && term.IsTerminal(int(f.Fd())) && a.conf.GetString("output") == "table"
	show, lost := a.lines()
	var window *tea.Program
	if onTerminal {
		window = tea.NewProgram(newWindow(ctx, api, name), tea.WithContext(ctx), tea.WithOutput(f),
			tea.WithoutSignalHandler())
		show = func(s sight) { window.Send(s) }
		lost = func() { window.Send(lostMsg{}) }
	}
	var end error
	watch := func(ctx context.Context) error {
		err := feed(ctx, api, name, onTerminal, func(s sight) error {
			show(s)
			c := s.crossing
			if want == contract.PhaseClosed { // a watch goes on whatever happens
				if c.Phase == want {
					return errDone
				}
				return nil
			}
			switch {
			case c.Condition == contract.ConditionHeld, c.Condition == contract.ConditionFailed:
				end = exitWith(ExitHeld, "crossing %s is %s: %s", name, c.Condition, c.Reason)
			case c.Condition == contract.ConditionPaused:
				end = exitWith(ExitHeld, "crossing %s was paused before it was %s; let it go on with: dustyferry "+
					"crossing resume %s", name, want, name)
			case c.Phase == want:
			case c.Phase == contract.PhaseClosed:
				end = exitWith(ExitProblem, "crossing %s was closed before it was %s", name, want)
			default:
				return nil
			}
			return errDone
		}, lost)
		switch {
		case errors.Is(err, errGone):
			return fmt.Errorf("crossing %s is gone: it was removed from the records", name)
		case errors.Is(err, errDone):
			return end
		}
		return err
	}
	if window == nil {
		return watch(ctx)
	}
	run, stop := context.WithCancel(ctx)
	defer stop()
	ended := make(chan error, 1)
	go func() {
		err := watch(run)
		window.Send(overMsg{})
		ended <- err
	}()
	_, err := window.Run()
	stop()
	if failed := <-ended; failed != nil {
		return failed
	}
	if errors.Is(err, tea.ErrProgramKilled) || errors.Is(err, tea.ErrInterrupted) {
		return nil
	}
	return err
}

// lines is the view where there is no terminal: a line whenever something moved.
func (a *app) lines() (show func(sight), lost func()) {
	said := ""
	out := a.out
	if a.conf.GetString("output") != "table" {
		out = a.err // the answer itself is for a program
	}
	say := func(line string) {
		if line != said {
			fmt.Fprintln(out, time.Now().Format("15:04:05")+"  "+line)
			said = line
		}
	}
	return func(s sight) { say(plainLine(s.crossing)) },
		func() { say("the service does not answer; trying again") }
}

func plainLine(c contract.Crossing) string {
	p := c.Progress
	out := fmt.Sprintf("%s: %s, %s; %s loaded, %s rows, %d of %d chunks", c.Name, c.PhaseLabel, c.Condition, percent(p),
		num(p.Rows), p.ChunksLanded, p.Chunks)
	if p.RowsPerSecond >= 1 {
		out += fmt.Sprintf(", %s rows/s", num(int64(p.RowsPerSecond)))
	}
	if p.RemainingSeconds != nil && c.Phase == contract.PhaseLoading {
		out += ", " + took(*p.RemainingSeconds) + " left"
	}
	if p.Capture != "none" {
		out += fmt.Sprintf("; %s changes applied, lag %s", num(p.Changes), shortLag(p))
	}
	if p.Work != nil {
		out += "; " + *p.Work
	}
	if c.WaitsFor != "" && c.WaitsFor != c.Reason {
		out += "; " + c.WaitsFor
	}
	if c.Reason != "" {
		out += "; " + c.Reason
	}
	return out
}
