package cli

import (
	"fmt"
	"io"
	"os"
	"time"

	"golang.org/x/term"
)

// progress shows how far a long command is, on the error output so that the
// answer stays clean: one line drawn anew on a terminal, otherwise a line
// whenever the text has changed, at most one in five seconds.
type progress struct {
	out    io.Writer
	fd     int
	live   bool
	said   string
	saidAt time.Time
}

func (a *app) progress() *progress {
	p := &progress{out: a.err}
	if f, ok := a.err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		p.fd, p.live = int(f.Fd()), true
	}
	return p
}

// say shows what is being done; share is from 0 to 1, or below 0 when it is not
// known.
func (p *progress) say(share float64, format string, args ...any) {
	text := harmless(fmt.Sprintf(format, args...), "")
	if share >= 0 {
		text = fmt.Sprintf("%3d %%  %s", int(share*100), text)
		if p.live {
			text = bar(share, 20) + " " + text
		}
	}
	if p.live {
		width, _, err := term.GetSize(p.fd)
		if err != nil || width < 20 {
			width = 80
		}
		fmt.Fprintf(p.out, "\r\x1b[2K%s", clip(text, width-1))
		return
	}
	if text != p.said && time.Since(p.saidAt) >= 5*time.Second {
		fmt.Fprintln(p.out, time.Now().Format("15:04:05")+"  "+text)
		p.said, p.saidAt = text, time.Now()
	}
}

// end takes the line away again.
func (p *progress) end() {
	if p.live {
		fmt.Fprint(p.out, "\r\x1b[2K")
	}
}
