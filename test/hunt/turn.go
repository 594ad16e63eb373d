package hunt

import (
	"fmt"
	"strings"
	"time"
)

// Going back over a return path, and forth again.

// turns adds what comes after a cutover that opened a return path: the application writes on the other
// side, and goes back to the first, or forth again; something befalls the cutovers.
func (g *gen) turns(work func()) {
	d := g.draws(0x2b)
	if g.s.Settings["return_path"] == nil {
		g.ferry("cutover")
		return
	}
	for range pick(d, 1, 2, 2, 3) {
		g.ferry("cutover" + pick(d, "", "", " kill", " kill", " crash source", " crash target", " cut source",
			" cut target") +
			fmt.Sprintf(" %dms", pick(d, 0, 60, 150, 300, 500, 900, 1500)))
		g.ferry("turn")
		for range d.IntN(4) {
			work()
		}
		if d.chance(0.4) {
			g.ferry(pick(d, "kill", "freeze", "reconcile"))
			work()
		}
		g.ferry("equal")
	}
}

// Returns is how often a crossing opens a return path where it can, from 0 to 1.
var Returns = 0.4

// wayBack has the crossing open a return path, where both sides speak the same SQL.
func (g *gen) wayBack() {
	if d := g.draws(0x2c); g.s.Pair[0] == g.s.Pair[1] && len(g.s.Where) == 0 && g.s.Kind == "" && d.chance(Returns) {
		g.s.Settings["return_path"] = "open"
	}
}

// strike has something befall a cutover under way: "kill 100ms", "crash target 20ms".
func (r *run) strike(how string) error {
	f := strings.Fields(how)
	if len(f) < 2 {
		return nil
	}
	after, err := time.ParseDuration(f[len(f)-1])
	if err != nil {
		return err
	}
	time.Sleep(after)
	if f[0] == "kill" {
		r.product.kill()
		return r.product.start(r.ctx)
	}
	return r.befall(Step{On: f[1], Text: f[0]})
}

// turn goes on with the return path of a crossing that was cut over: what was its target is the source
// from here on.
func (r *run) turn() error {
	if !r.cutOver {
		return nil
	}
	c, err := r.product.get(r.ctx, r.path(""))
	if err != nil {
		return err
	}
	back := str(c, "return_by")
	if back == "" {
		return fault("%s was cut over and has no return path", r.name)
	}
	r.before = append(r.before, r.name)
	r.name, r.source, r.target, r.cutOver = back, r.target, r.source, false
	return r.await("in step")
}

// turned reports whether the application went over at least once.
func (r *run) turned() bool { return len(r.before) > 0 }
