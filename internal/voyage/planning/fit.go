package planning

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"dustyferry/internal/core/fit"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/tasks"
	"dustyferry/internal/voyage/waits"
)

// FitArgs say how much a fit check looks at.
type FitArgs struct {
	Share      float64 // of the rows, above 0 and at most 1
	Extremes   bool
	SpeedLimit int64    // bytes/s, 0 for none
	Tables     []string // patterns; none: all of the crossing's
}

// Scope says what is looked at.
func (a FitArgs) Scope() string { return scopeText(a.Share, a.Extremes) }

func scopeText(share float64, extremes bool) string {
	switch {
	case extremes:
		return "the least, greatest and longest values"
	case share < 1:
		return fmt.Sprintf("%g %% of the rows", share*100)
	}
	return "all rows"
}

// CheckValues looks at the tables, one after the other: it is in no hurry, and the source
// is live.
func (pl *Planning) CheckValues(ctx context.Context, c *domain.Crossing, a FitArgs, note func(string)) (err error) {
	f := &domain.FitCheck{Share: a.Share, Extremes: a.Extremes, StartedAt: time.Now().UTC(), Entries: []domain.Entry{}}
	defer func() {
		why, early := tasks.EndedEarly(ctx)
		if ctx.Err() != nil && !early { // another process begins anew
			return
		}
		if f.EndedAt = time.Now().UTC(); err != nil {
			f.Error = cmp.Or(why, err.Error())
		}
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if saved := pl.records.SaveFit(end, c, f); err == nil {
			err = saved
		}
	}()
	note("planning the tables")
	s, _, err := pl.Plan(ctx, c)
	if err != nil {
		return err
	}
	from, err := pl.records.Database(ctx, c.Source)
	if err != nil {
		return err
	}
	plans := s.Plans
	if len(a.Tables) > 0 {
		if plans, err = within(plans, a.Tables); err != nil {
			return err
		}
	}
	f.Tables = len(plans)
	limit := rate.NewLimiter(rate.Inf, 1<<20)
	if a.SpeedLimit > 0 {
		limit = rate.NewLimiter(rate.Limit(a.SpeedLimit), int(max(a.SpeedLimit, 1<<20)))
	}
	for i := range plans {
		p := &plans[i]
		check, ok := fit.New(from.Engine, p)
		if ok {
			said, weighed := time.Now(), int64(0)
			err := s.Source.Scan(ctx, p, engine.Scope{Share: a.Share, Extremes: a.Extremes,
				Refused: check.Refused}, func(fields [][]byte) error {
				check.Row(fields)
				if check.Bytes-weighed > 64<<10 {
					if err := waits.Pass(ctx, limit, int(check.Bytes-weighed)); err != nil {
						return err
					}
					weighed = check.Bytes
				}
				if time.Since(said) > time.Second {
					said = time.Now()
					note(fmt.Sprintf("looking at %s, table %d of %d: %s so far", p.Source, i+1, len(plans),
						domain.Many(f.Rows+check.Rows, "row")))
				}
				return nil
			})
			if err != nil {
				return err
			}
			f.Rows += check.Rows
			f.Bytes += check.Bytes
			f.Entries = append(f.Entries, misfits(p, check, f)...)
		}
		f.Done++
		if err := pl.records.SaveFit(ctx, c, f); err != nil {
			return err
		}
	}
	pl.journal.Recordf(ctx, "info", journal.System, c.Name, "", "fit check", "the fit check looked at %s in %s: %s",
		domain.Many(f.Rows, "row"), domain.Many(f.Tables, "table"), misfitText(f.Misfits))
	return nil
}

func misfitText(misfits int64) string {
	if misfits == 0 {
		return "every value fits"
	}
	return fmt.Sprintf("%s %s not fit", domain.Many(misfits, "value"), does(misfits))
}

// does is the verb that goes with a number of things.
func does(n int64) string {
	if n == 1 {
		return "does"
	}
	return "do"
}

// within keeps the plans of tables that patterns choose.
func within(plans []domain.TablePlan, patterns []string) ([]domain.TablePlan, error) {
	var names []domain.TableName
	for _, p := range plans {
		names = append(names, p.Source)
	}
	in := map[domain.TableName]bool{}
	for _, n := range domain.MatchTables(patterns, names) {
		in[n] = true
	}
	var out []domain.TablePlan
	for _, p := range plans {
		if in[p.Source] {
			out = append(out, p)
		}
	}
	if len(out) == 0 {
		return nil, domain.Invalid("none of the crossing's tables matches %s", strings.Join(patterns, ", "))
	}
	return out, nil
}

// misfits says what a check found in a table.
func misfits(p *domain.TablePlan, check *fit.Check, f *domain.FitCheck) []domain.Entry {
	found := check.Misfits()
	if len(found) == 0 {
		return []domain.Entry{{Verdict: domain.OK, Topic: "fit", Subject: p.Source.String(),
			Measured: fmt.Sprintf("%s looked at; every value fits", domain.Many(check.Rows, "row"))}}
	}
	var out []domain.Entry
	for _, m := range found {
		f.Misfits += m.Count - m.Nulls - m.Cuts
		var examples []string
		for _, x := range m.Examples {
			at := ""
			if len(x.Key) > 0 {
				at = "key (" + strings.Join(x.Key, ", ") + ") "
			}
			examples = append(examples, at+x.Value+": "+x.Why)
		}
		remedy := "change the values on the source"
		if m.Suggest != "" {
			remedy += fmt.Sprintf(", or plan the column as %s", m.Suggest)
		}
		e := domain.Entry{Verdict: domain.Blocker, Topic: "fit", Subject: p.Source.String(), Remedy: remedy,
			Measured: fmt.Sprintf("%s of %s, planned as %s, %s not fit", domain.Many(m.Count, "value"), m.Column, m.Type,
				does(m.Count)), Values: strings.Join(examples, "; ")}
		if m.Cuts == m.Count {
			e.Measured = fmt.Sprintf("%s of %s will be cut to %s", domain.Many(m.Count, "value"), m.Column,
				domain.Many(m.Limit, "byte"))
			e.Remedy = "allow longer values in the rules, or take cut away to have them refused"
		}
		if m.Nulls+m.Cuts == m.Count { // the load goes on, the values do not
			e.Verdict = domain.Notice
		}
		out = append(out, e)
	}
	return out
}

// settled calms entries about values that cannot be kept, of tables of which a fit
// check has read every row and found none.
func settled(entries []domain.Entry, f *domain.FitCheck) {
	if f == nil || f.EndedAt.IsZero() || f.Error != "" || f.Extremes || f.Share < 1 {
		return
	}
	fine := map[string]bool{}
	for _, e := range f.Entries {
		fine[e.Subject] = e.Verdict == domain.OK
	}
	for i := range entries {
		e := &entries[i]
		if e.Topic == lossyTopic && e.Verdict == domain.Notice && fine[e.Subject] {
			e.Verdict = domain.OK
			e.Measured += "; the fit check found no such value"
		}
	}
}

// fitEntries are what the last fit check says to a survey, whose entries about
// types it may settle.
func (pl *Planning) fitEntries(ctx context.Context, c *domain.Crossing, plans []domain.TablePlan,
	types []domain.Entry) ([]domain.Entry, error) {
	unlike := false
	for _, p := range plans {
		unlike = unlike || p.CrossEngine
	}
	if !unlike {
		return nil, nil
	}
	if c.ReturnOf != nil {
		return nil, nil // the rows that are there came over this way
	}
	f, err := pl.records.FitOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	settled(types, f)
	remedy := "dustyferry fit " + c.Name
	policy, err := pl.records.Policy(ctx)
	if err != nil {
		return nil, err
	}
	less, why := domain.Notice, ""
	if policy.Requires(domain.CheckFit) {
		less, why = domain.Blocker, "; this service's policy wants it checked"
	}
	if f == nil || f.EndedAt.IsZero() || f.Error != "" {
		return []domain.Entry{{Verdict: less, Topic: "fit", Subject: "crossing", Remedy: remedy,
			Measured: "the data has not been looked at for values that their new columns cannot hold" + why}}, nil
	}
	ago := "the fit check of " + f.StartedAt.Format("2006-01-02 15:04 MST")
	var out []domain.Entry
	for _, e := range f.Entries {
		if e.Verdict != domain.OK {
			e.Measured = ago + ": " + e.Measured
			e.Remedy += "; then check again: " + remedy
			out = append(out, e)
		}
	}
	e := domain.Entry{Verdict: domain.OK, Topic: "fit", Subject: "crossing", Measured: fmt.Sprintf("%s looked at %s (%s)",
		ago, scopeText(f.Share, f.Extremes), domain.Many(f.Rows, "row"))}
	if f.Tables < len(plans) {
		e.Verdict, e.Remedy = less, remedy
		e.Measured += fmt.Sprintf(" of %d of the %d tables", f.Tables, len(plans)) + why
	}
	if len(out) == 0 {
		e.Measured += ": every value fits"
	}
	if len(out) == 0 || e.Verdict != domain.OK {
		out = append(out, e)
	}
	return out, nil
}
