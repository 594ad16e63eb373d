package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/guptarohit/asciigraph"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// The few styles of the terminal view. They name colours of the terminal's own
// palette, so that they suit its theme; NO_COLOR takes them away.
var (
	strong  = lipgloss.NewStyle().Bold(true)
	quiet   = lipgloss.NewStyle().Faint(true)
	moving  = lipgloss.NewStyle().Foreground(lipgloss.Color("3"))
	landed  = lipgloss.NewStyle().Foreground(lipgloss.Color("2"))
	warning = lipgloss.NewStyle().Foreground(lipgloss.Color("3")).Bold(true)
	trouble = lipgloss.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
)

type (
	lostMsg struct{} // the event stream broke
	overMsg struct{} // there is nothing more to watch
	saidMsg string   // what an act led to
	tickMsg struct{}
)

// window is the view that fills a terminal. It only draws what it is sent.
type window struct {
	ctx    context.Context
	api    *client.Client
	name   string
	sight  sight
	lost   bool
	width  int
	height int
	top    int    // first table shown
	asked  string // an act that waits for yes or no
	said   string
	over   bool
}

func newWindow(ctx context.Context, api *client.Client, name string) *window {
	return &window{ctx: ctx, api: api, name: name, width: 80, height: 24}
}

// Init implements tea.Model.
func (w *window) Init() tea.Cmd { return tick() }

// tick redraws times that pass by themselves.
func tick() tea.Cmd { return tea.Tick(time.Second, func(time.Time) tea.Msg { return tickMsg{} }) }

// Update implements tea.Model.
func (w *window) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		w.width, w.height = max(m.Width, 40), max(m.Height, 10)
	case sight:
		w.sight, w.lost = m, false
	case lostMsg:
		w.lost = true
	case saidMsg:
		w.said = string(m)
	case overMsg:
		w.over = true
		return w, tea.Quit
	case tickMsg:
		return w, tick()
	case tea.KeyPressMsg:
		return w, w.key(m.String())
	}
	return w, nil
}

func (w *window) key(k string) tea.Cmd {
	if act := w.asked; act != "" {
		w.asked = ""
		if k == "y" || k == "Y" {
			w.said = act + " …"
			return w.act(act)
		}
		w.said = "nothing was done"
		return nil
	}
	w.said = ""
	switch k {
	case "q", "esc", "ctrl+c":
		return tea.Quit
	case "p":
		w.asked = "pause"
	case "r":
		w.asked = "resume"
	case "down", "j":
		w.top++
	case "up", "k":
		w.top--
	case "pgdown", "space":
		w.top += 10
	case "pgup":
		w.top -= 10
	case "home":
		w.top = 0
	case "end":
		w.top = len(w.sight.tables.Tables)
	}
	return nil
}

func (w *window) act(what string) tea.Cmd {
	return func() tea.Msg {
		var err error
		if what == "pause" {
			_, err = client.Do[contract.Crossing](w.api.API.PauseCrossingWithResponse(w.ctx, w.name,
				contract.PauseCrossingJSONRequestBody{}))
		} else {
			_, err = client.Do[contract.Crossing](w.api.API.ResumeCrossingWithResponse(w.ctx, w.name))
		}
		if err != nil {
			return saidMsg("not done: " + err.Error())
		}
		return saidMsg("done: " + what)
	}
}

// View implements tea.Model.
func (w *window) View() tea.View {
	v := tea.NewView(strings.Join(w.draw(), "\n"))
	// What was seen last stays in the terminal when the watch is left.
	v.AltScreen = !w.over
	v.WindowTitle = w.name
	if c := w.sight.crossing; c.Name != "" {
		v.WindowTitle = fmt.Sprintf("%s: %s, %s", c.Name, c.PhaseLabel, c.Condition)
	}
	return v
}

// draw returns the lines of the view, none wider or more than the window.
func (w *window) draw() []string {
	c := w.sight.crossing
	if c.Name == "" {
		return []string{"Asking the service about " + w.name + " …"}
	}
	head := append(w.title(c), w.load(c)...)
	head = append(head, w.follow(c)...)
	foot := w.foot()
	spare := w.height - len(head) - len(foot) - 4 // the least the tables need
	if c.Progress.Capture != "none" && spare >= 7 {
		head = append(head, w.lagChart(min(5, spare-3))...)
	}
	head = append(head, w.lanes(w.height >= 30)...)
	head = append(head, w.stuck(c)...)
	rows := w.height - len(head) - len(foot)
	out := append(head, w.tables(rows)...)
	for len(out) < w.height-len(foot) {
		out = append(out, "")
	}
	out = append(out[:max(0, min(len(out), w.height-len(foot)))], foot...)
	for i := range out {
		out[i] = clipStyled(out[i], w.width)
	}
	return out
}

func (w *window) title(c contract.Crossing) []string {
	state := c.PhaseLabel + ", "
	switch c.Condition {
	case contract.ConditionHeld, contract.ConditionFailed:
		state += trouble.Render(string(c.Condition))
	case contract.ConditionPaused:
		state += warning.Render("paused")
	default:
		state += landed.Render(string(c.Condition))
	}
	left := strong.Render(clip(c.Name, w.width/3)) + "  " + clip(c.Source+" → "+c.Target, w.width/3)
	gap := max(2, w.width-lipgloss.Width(left)-lipgloss.Width(state))
	return []string{left + strings.Repeat(" ", gap) + state, quiet.Render(strings.Repeat("─", w.width))}
}

func (w *window) load(c contract.Crossing) []string {
	p := c.Progress
	out := []string{fmt.Sprintf(" load  %s %5s  %s of about %s rows", w.bar(share(p), max(10, w.width-58)), percent(p),
		num(p.Rows), num(p.RowsEstimated))}
	line := "       " + size(p.Bytes)
	switch {
	case c.Phase == contract.PhaseLoading:
		line += fmt.Sprintf(" at %s/s, %s rows/s now, %s on average", size(int64(p.BytesPerSecond)),
			num(int64(p.RowsPerSecond)), num(int64(deref(p.AverageRowsPerSecond))))
		out = append(out, line)
		line = fmt.Sprintf("       %d of %d chunks", p.ChunksLanded, p.Chunks)
		if p.RemainingSeconds != nil {
			line += fmt.Sprintf(", %s left (%s to %s)", strong.Render(took(*p.RemainingSeconds)),
				took(deref(p.RemainingLowSeconds)), took(deref(p.RemainingHighSeconds)))
		} else {
			line += ", remaining time not known yet"
		}
	case p.Chunks > 0 && p.Chunks == p.ChunksLanded:
		line += fmt.Sprintf(" in %d chunks, all landed", p.Chunks)
	}
	out = append(out, line)
	if p.Work != nil {
		out = append(out, " now   "+*p.Work)
	}
	return out
}

func (w *window) follow(c contract.Crossing) []string {
	p := c.Progress
	switch p.Capture {
	case "none":
		return nil
	case "waiting":
		return []string{warning.Render(" lag   capture does not run at the moment; the log kept for it: " + keptText(p))}
	}
	seconds, rest, _ := strings.Cut(lagText(p), ",")
	out := []string{fmt.Sprintf(" lag   %s behind,%s; %s changes applied, %s/s; log kept %s",
		strong.Render(seconds), rest, num(p.Changes), num(int64(p.ChangesPerSecond)), keptText(p))}
	if p.CaptureNote != nil {
		out = append(out, "       "+*p.CaptureNote)
	}
	return out
}

func (w *window) lagChart(rows int) []string {
	h := w.sight.history
	if len(h.LagSeconds) < 2 {
		return nil
	}
	top := 0.0
	for _, v := range h.LagSeconds {
		top = max(top, v)
	}
	plot := asciigraph.Plot(h.LagSeconds, asciigraph.Height(rows-1), asciigraph.Width(max(20, w.width-20)),
		asciigraph.LowerBound(0), asciigraph.UpperBound(max(top, 0.1)),
		asciigraph.YAxisValueFormatter(took))
	since := h.To.Sub(h.From).Round(time.Second)
	out := []string{quiet.Render(fmt.Sprintf("       lag over the last %s, highest %s", took(since.Seconds()), took(top)))}
	for line := range strings.SplitSeq(plot, "\n") {
		out = append(out, "  "+moving.Render(line))
	}
	return out
}

func (w *window) lanes(all bool) []string {
	l := w.sight.lanes
	if w.sight.crossing.Phase != contract.PhaseLoading {
		return nil
	}
	limit := ""
	if l.SpeedLimit > 0 {
		limit = ", limited to " + size(l.SpeedLimit) + "/s"
	}
	out := []string{fmt.Sprintf(" lanes %d of %d at work, %d chunks to go%s", len(l.Carrying), l.Wanted, l.OpenChunks,
		limit)}
	if all {
		for _, k := range l.Carrying[:min(len(l.Carrying), 8)] {
			out = append(out, quiet.Render(fmt.Sprintf("       %s, %s of %d, %s in %s, by %s", clip(k.Table, 30), chunksText(k),
				k.OfChunks, size(k.Bytes), took(time.Since(k.StartedAt).Seconds()), k.Worker)))
			if k.WaitsFor != nil {
				out = append(out, wrapped("         ", *k.WaitsFor, w.width)...)
			}
		}
	}
	return out
}

// stuck says what does not go on by itself.
func (w *window) stuck(c contract.Crossing) []string {
	var out []string
	say := func(s string) { out = append(out, wrapped(" stuck ", s, w.width)...) }
	if c.WaitsFor != "" {
		say(c.WaitsFor)
	} else if c.Reason != "" {
		say(c.Reason)
	}
	for _, t := range w.sight.tables.Tables {
		if t.State == contract.TableStateHeld && t.Reason != c.Reason && len(out) < 6 {
			say(t.Name + ": " + t.Reason)
		}
	}
	for i := range out {
		out[i] = trouble.Render(out[i])
	}
	if len(out) == 0 && c.Phase != contract.PhaseClosed {
		out = []string{quiet.Render(" stuck nothing")}
	}
	return out
}

// wrapped breaks a sentence at words, the lines after the first set in.
func wrapped(label, text string, width int) []string {
	text = harmless(text, "")
	var out []string
	line := label
	for word := range strings.FieldsSeq(text) {
		if len([]rune(line))+1+len([]rune(word)) > width && strings.TrimSpace(line) != "" {
			out = append(out, line)
			line = strings.Repeat(" ", len(label)-1)
		}
		if !strings.HasSuffix(line, " ") {
			line += " "
		}
		line += word
	}
	return append(out, line)
}

func (w *window) tables(rows int) []string {
	list := w.sight.tables
	if rows < 2 || len(list.Tables) == 0 {
		return nil
	}
	count := ""
	for _, s := range []string{"held", "loading", "planned", "landed"} {
		if n := list.States[s]; n > 0 {
			count += fmt.Sprintf(", %d %s", n, s)
		}
	}
	out := []string{"", strong.Render(fmt.Sprintf(" %d tables", list.Total)) + count}
	rows -= 2
	w.top = max(0, min(w.top, len(list.Tables)-rows))
	name := 12
	for _, t := range list.Tables {
		name = max(name, len([]rune(t.Name)))
	}
	name = min(name, max(12, w.width-52))
	wide := w.width >= 100
	shown := list.Tables[w.top:min(len(list.Tables), w.top+rows)]
	for i, t := range shown {
		if i == rows-1 && w.top+rows < list.Total {
			out = append(out, quiet.Render(fmt.Sprintf(" … and %d more tables (arrows scroll)", list.Total-w.top-rows+1)))
			break
		}
		done := 0.0
		if t.Chunks > 0 {
			done = min(1, float64(t.Bytes)/max(1, float64(t.BytesEstimated)))
			if t.ChunksLanded == t.Chunks {
				done = 1
			} else {
				done = min(done, 0.99)
			}
		}
		line := fmt.Sprintf(" %-*s %s %4d %% %14s rows", name, clip(t.Name, name), w.bar(done, 10), int(done*100),
			num(t.Rows))
		if wide {
			rate, left := "", ""
			if t.RowsPerSecond >= 1 {
				rate = num(int64(t.RowsPerSecond)) + "/s"
			}
			if t.RemainingSeconds != nil {
				left = took(*t.RemainingSeconds) + " left"
			}
			line += fmt.Sprintf(" %11s %16s", rate, left)
		}
		switch t.State {
		case contract.TableStateHeld:
			line += "  " + trouble.Render("held")
		case contract.TableStateLanded:
			line += "  " + landed.Render("landed")
		default:
			line += "  " + string(t.State)
		}
		out = append(out, line)
	}
	return out
}

func (w *window) foot() []string {
	switch {
	case w.asked != "":
		what := map[string]string{
			"pause":  "Pause load and capture? y/n (meanwhile the source keeps its log)",
			"resume": "Let " + clip(w.name, 20) + " go on? y/n",
		}[w.asked]
		return []string{warning.Render(what)}
	case w.lost:
		return []string{trouble.Render(fmt.Sprintf("Not live: the service does not answer, the figures are of %s; "+
			"trying again …", w.sight.at.Format("15:04:05")))}
	case time.Since(w.sight.at) > 4*time.Second:
		return []string{trouble.Render(fmt.Sprintf("Not live: nothing has come since %s", w.sight.at.Format("15:04:05")))}
	case w.said != "":
		return []string{w.said}
	}
	return []string{quiet.Render("live " + w.sight.at.Format("15:04:05") + "   q leave   p pause   r resume   ↑↓ tables")}
}

// bar draws a share as a line of n cells.
func (w *window) bar(share float64, n int) string {
	style := moving
	if share >= 1 {
		style = landed
	}
	return style.Render(bar(share, n))
}

func bar(share float64, n int) string {
	full := max(0, min(n, int(share*float64(n)+0.5)))
	return strings.Repeat("━", full) + strings.Repeat("╌", n-full)
}

// clip cuts a text to so many characters.
func clip(text string, width int) string {
	text = harmless(text, "")
	r := []rune(text)
	if len(r) <= width {
		return text
	}
	return string(r[:max(0, width-1)]) + "…"
}

// clipStyled cuts a line with styles in it to the window's width.
func clipStyled(line string, width int) string {
	if lipgloss.Width(line) <= width {
		return line
	}
	return lipgloss.NewStyle().MaxWidth(width).Render(line)
}

// chunksText names what a lane carries in one read.
func chunksText(k contract.Lane) string {
	if k.LastChunk > k.Chunk {
		return fmt.Sprintf("chunks %d to %d", k.Chunk, k.LastChunk)
	}
	return fmt.Sprintf("chunk %d", k.Chunk)
}
