package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dustyferry/internal/client"
	"dustyferry/internal/contract"
)

func (a *app) watchCmd() *cobra.Command {
	return &cobra.Command{
		Use: "watch NAME", Short: "Watch a crossing live: progress, rates, lag, what is stuck", Args: exactly("the crossing's NAME"),
		Long: `Watch a crossing live. On a terminal the view is drawn anew each second; when the
output is not a terminal, a line is printed whenever something moved. Ends when
the crossing is closed, or with Ctrl-C. NO_COLOR turns colours off.`,
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
	s := a.newScreen()
	var end error
	done := errors.New("done")
	last := ""
	for ctx.Err() == nil {
		err := api.Events(ctx, last, func(e client.Event) error {
			if e.ID != "" {
				last = e.ID
			}
			if e.Kind != "crossings" {
				return nil
			}
			var all []contract.Crossing
			if err := json.Unmarshal(e.Data, &all); err != nil {
				return err
			}
			for _, c := range all {
				if c.Name != name {
					continue
				}
				tables, err := client.Do[[]contract.Table](api.API.ListTablesWithResponse(ctx, name))
				if err != nil {
					return err
				}
				s.draw(c, tables)
				if c.Phase == want || want == contract.PhaseInStep && c.Phase == contract.PhaseClosed {
					return done
				}
				if c.Condition == contract.ConditionHeld && want != contract.PhaseClosed {
					end = exitWith(ExitHeld, "crossing %s waits for a person: %s", name, c.Reason)
					return done
				}
				return nil
			}
			end = fmt.Errorf("crossing %s is gone", name)
			return done
		})
		var p *client.Problem
		switch {
		case errors.Is(err, done):
			return end
		case errors.As(err, &p):
			return err
		case ctx.Err() == nil:
			s.stale()
			_ = pause(ctx, time.Second)
		}
	}
	return nil
}

// screen draws the live view, or prints lines where there is no terminal.
type screen struct {
	out   io.Writer
	fd    int
	live  bool
	color bool
	drawn int
	said  string
}

func (a *app) newScreen() *screen {
	s := &screen{out: a.out, color: os.Getenv("NO_COLOR") == ""}
	if f, ok := a.out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		s.fd, s.live = int(f.Fd()), true
	}
	return s
}

func (s *screen) stale() {
	if s.live {
		fmt.Fprintf(s.out, "\r%s", s.paint("33", "the service does not answer; the figures above are old, trying again …"))
		return
	}
	fmt.Fprintln(s.out, "the service does not answer; trying again")
}

func (s *screen) paint(code, text string) string {
	if !s.color || !s.live || code == "0" {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

func (s *screen) draw(c contract.Crossing, tables []contract.Table) {
	if !s.live {
		line := plainLine(c)
		if line != s.said {
			fmt.Fprintln(s.out, time.Now().Format("15:04:05")+"  "+line)
			s.said = line
		}
		return
	}
	width, height, err := term.GetSize(s.fd)
	if err != nil {
		width, height = 80, 24
	}
	lines := s.view(c, tables, max(width, 40), max(height, 10))
	var b strings.Builder
	if s.drawn > 0 {
		fmt.Fprintf(&b, "\x1b[%dA", s.drawn)
	}
	for _, l := range lines {
		b.WriteString("\r\x1b[2K" + l + "\n")
	}
	b.WriteString("\x1b[J")
	s.drawn = len(lines)
	_, _ = io.WriteString(s.out, b.String())
}

func plainLine(c contract.Crossing) string {
	p := c.Progress
	out := fmt.Sprintf("%s: %s, %s; %s loaded, %s rows, %d of %d chunks", c.Name, c.Phase, c.Condition, percent(p), num(p.Rows), p.ChunksLanded, p.Chunks)
	if p.RowsPerSecond >= 1 {
		out += fmt.Sprintf(", %s rows/s", num(int64(p.RowsPerSecond)))
	}
	if p.RemainingSeconds != nil && c.Phase == contract.PhaseLoading {
		out += ", " + took(*p.RemainingSeconds) + " left"
	}
	if p.Capture != "none" {
		out += fmt.Sprintf("; %s changes applied, lag %s", num(p.Changes), took(p.LagSeconds))
	}
	if p.Work != nil {
		out += "; " + *p.Work
	}
	if c.Reason != "" {
		out += "; " + c.Reason
	}
	return out
}

// bar draws a share as a line of n cells.
func bar(share float64, n int) string {
	full := int(share*float64(n) + 0.5)
	return strings.Repeat("━", full) + strings.Repeat("╌", n-full)
}

// clip cuts a line that a terminal of that width would wrap.
func clip(text string, width int) string {
	r := []rune(text)
	if len(r) <= width {
		return text
	}
	return string(r[:width-1]) + "…"
}

func (s *screen) view(c contract.Crossing, tables []contract.Table, width, height int) []string {
	p := c.Progress
	state := string(c.Phase)
	switch c.Condition {
	case contract.ConditionHeld, contract.ConditionFailed:
		state += ", " + s.paint("1;31", string(c.Condition))
	case contract.ConditionPaused:
		state += ", " + s.paint("1;33", "paused")
	default:
		state += ", " + string(c.Condition)
	}
	add := func(code, text string) []string { return []string{s.paint(code, clip(text, width))} }
	out := []string{s.paint("1", clip(c.Name, width/2)) + clip("  "+c.Source+" → "+c.Target, width/4) + "  " + state}
	if p.Work != nil {
		out = append(out, add("0", "  now   "+*p.Work)...)
	}
	if c.Reason != "" {
		out = append(out, add("33", "  why   "+c.Reason)...)
	}
	barWidth := max(10, min(40, width-44))
	out = append(out, fmt.Sprintf("  load  %s %5s  %d of %d chunks", s.paint("36", bar(share(p), barWidth)), percent(p), p.ChunksLanded, p.Chunks))
	out = append(out, add("0", fmt.Sprintf("        %s of about %s rows, %s", num(p.Rows), num(p.RowsEstimated), size(p.Bytes)))...)
	rate := fmt.Sprintf("        %s rows/s, %s/s", num(int64(p.RowsPerSecond)), size(int64(p.BytesPerSecond)))
	if p.RemainingSeconds != nil && c.Phase == contract.PhaseLoading {
		rate += fmt.Sprintf(", %s left (%s to %s)", took(*p.RemainingSeconds), took(deref(p.RemainingLowSeconds)), took(deref(p.RemainingHighSeconds)))
	}
	out = append(out, add("0", rate)...)
	switch p.Capture {
	case "none":
	case "waiting":
		out = append(out, add("33", "  lag   capture does not run at the moment; the source keeps "+size(p.RetainedBytes)+" of log")...)
	default:
		out = append(out, add("0", fmt.Sprintf("  lag   %s, %s; %s changes applied, %s/s; log kept %s", took(p.LagSeconds), size(p.LagBytes), num(p.Changes), num(int64(p.ChangesPerSecond)), size(p.RetainedBytes)))...)
	}
	out = append(out, "")
	name := 5
	for _, t := range tables {
		name = max(name, len([]rune(t.Name)))
	}
	name = min(name, max(12, width-46))
	room := height - len(out) - 2
	for i, t := range tables {
		if i >= room {
			out = append(out, fmt.Sprintf("  … and %d more tables", len(tables)-i))
			break
		}
		done := 0.0
		if t.Chunks > 0 {
			done = float64(t.ChunksLanded) / float64(t.Chunks)
		}
		mark := string(t.State)
		if t.State == contract.TableStateHeld {
			mark = s.paint("1;31", mark)
		}
		out = append(out, fmt.Sprintf("  %-*s %s %14s rows  %s", name, clip(t.Name, name), s.paint("36", bar(done, 12)), num(t.Rows), mark))
	}
	return out
}
