package planning

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/core/params"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// planner plans the tables of a crossing, as the source is now and as a person
// wishes.
type planner struct {
	pl    *Planning
	src   *engine.Opened
	cat   *domain.Catalog
	way   typemap.Mapping
	rules []domain.Rule // parameters are filled in
	set   params.Set
	c     *domain.Crossing
}

func (pl *Planning) planner(ctx context.Context, c *domain.Crossing, src *engine.Opened,
	cat *domain.Catalog) (*planner, error) {
	way, err := pl.way(ctx, c, cat)
	if err != nil {
		return nil, err
	}
	p := &planner{pl: pl, src: src, cat: cat, way: way, c: c,
		set: params.Set{Values: c.Planning.Parameters, Now: time.Now(),
			Backslash: typemap.DialectOf(way.From).Backslash}}
	for i, r := range c.Rules {
		if r, err = p.filled(r); err != nil {
			return nil, fmt.Errorf("rule %d: %w", i+1, err)
		}
		p.rules = append(p.rules, r)
	}
	return p, nil
}

// filled is a rule with values in place of the parameters' names.
func (p *planner) filled(r domain.Rule) (domain.Rule, error) {
	var err error
	if r.Where, _, err = p.set.Fill(r.Where); err != nil {
		return r, err
	}
	r.Columns = maps.Clone(r.Columns)
	for name, k := range r.Columns {
		if k.Expression, _, err = p.set.Fill(k.Expression); err != nil {
			return r, err
		}
		r.Columns[name] = k
	}
	return r, nil
}

// plain are the plans of the tables that the crossing's patterns choose, and of
// its queries, without what a person changes.
func (p *planner) plain(ctx context.Context) ([]domain.TablePlan, error) {
	queries := p.c.Planning.Queries
	var out []domain.TablePlan
	if len(p.c.Patterns) > 0 || len(queries) == 0 {
		var err error
		if out, err = Plans(p.src, p.cat, p.c.Patterns); err != nil {
			return nil, err
		}
	}
	for _, q := range queries {
		if slices.ContainsFunc(out, func(t domain.TablePlan) bool { return t.Source == q.Name() }) {
			return nil, domain.Invalid("there is a query for %s, and the patterns choose that table too; leave one of them out",
				q.Table)
		}
		t, err := p.query(ctx, q)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, nil
}

// query plans the rows of a query as a table. It is one chunk: each would run the
// query anew.
func (p *planner) query(ctx context.Context, q domain.Query) (domain.TablePlan, error) {
	sql, _, err := p.set.Fill(q.Statement())
	if err != nil {
		return domain.TablePlan{}, err
	}
	if err := p.src.Need(p.c.Source, engine.CanQuery); err != nil {
		return domain.TablePlan{}, err
	}
	t := domain.Table{TableName: q.Name(), Rows: -1, RowIdentity: "full"}
	if t.Columns, err = p.src.Describe(ctx, sql); err != nil {
		return domain.TablePlan{}, theirs(err, "the query for "+q.Table)
	}
	seen := map[string]bool{}
	for i := range t.Columns {
		c := &t.Columns[i]
		if c.Name == "" || c.Name == "?column?" || seen[c.Name] {
			return domain.TablePlan{}, domain.Invalid("the query for %s calls its column %d %q; give every column a name of "+
				"its own (AS …)", q.Table, i+1, c.Name)
		}
		seen[c.Name] = true
		c.NotNull = slices.Contains(q.Key, c.Name)
	}
	for _, k := range q.Key {
		if !seen[k] {
			return domain.TablePlan{}, domain.Invalid("the query for %s names column %s as its key, which it does not give",
				q.Table, k)
		}
	}
	if len(q.Key) > 0 {
		t.Keys = []domain.Key{{Columns: q.Key, Primary: true, Name: t.Name + "_pkey"}}
	}
	out, err := p.src.Plan(&t)
	out.From, out.KeyOrder, out.SetIdentity = sql, "none", ""
	return out, err
}

// shape gives a plan its target's side and what a person changes of it.
func (p *planner) shape(ctx context.Context,
	t domain.TablePlan) (domain.TablePlan, domain.Rule, []typemap.Noted, error) {
	rule := domain.RuleFor(p.rules, t.Source)
	if err := p.express(ctx, &t, rule); err != nil {
		return t, rule, nil, err
	}
	t, notes, err := p.way.BuildTargetPlan(t, rule)
	if p.c.Kind == domain.KindLoad && t.Table.Bytes >= keyLaterFrom {
		t.DeferPrimaryKey = true
		if t.TargetSide != nil {
			t.TargetSide.DeferPrimaryKey = true
		}
	}
	p.pl.Reveal(&t)
	return t, rule, notes, err
}

// keyLaterFrom is the size from which a table that no change is applied to may get its
// key after its rows, where its engine builds keys so. On PostgreSQL the target's
// backend, which is the limit, works 1.4 to 1.6 times as long with the key in place; rows
// first and then the key were measured to be 1.1 to 2 times as fast in all
// (bench/load.sh). Below it, one statement more costs as much. MariaDB stores rows in the
// order of the key: there it always stands.
const keyLaterFrom = 4 << 20

// express puts columns that are read by an expression into a plan.
func (p *planner) express(ctx context.Context, t *domain.TablePlan, rule domain.Rule) error {
	var names, list []string
	for _, name := range slices.Sorted(maps.Keys(rule.Columns)) {
		if e := rule.Columns[name].Expression; e != "" {
			names, list = append(names, name), append(list, "("+e+") AS "+p.quoted(name))
		}
	}
	from := p.quoted(t.Source.Schema) + "." + p.quoted(t.Source.Name)
	if t.From != "" {
		from = "(" + t.From + ") rows_of_the_query"
	}
	if rule.Where != "" || len(list) > 0 {
		if err := p.src.Need(p.c.Source, engine.CanQuery); err != nil {
			return err
		}
	}
	if rule.Where != "" {
		if _, err := p.src.Describe(ctx, "SELECT 1 FROM "+from+" WHERE ("+rule.Where+")"); err != nil {
			return theirs(err, "the condition on "+t.Source.String())
		}
	}
	if len(list) == 0 {
		return nil
	}
	cols, err := p.src.Describe(ctx, "SELECT "+strings.Join(list, ", ")+" FROM "+from)
	if err != nil {
		return theirs(err, "an expression of "+t.Source.String())
	}
	t.Columns = slices.Clone(t.Columns)
	for i, c := range cols {
		c.Expression, c.NotNull = rule.Columns[names[i]].Expression, false
		at := slices.IndexFunc(t.Columns, func(x domain.Column) bool { return x.Name == c.Name })
		switch {
		case at < 0:
			t.Columns = append(t.Columns, c)
		default:
			c.Comment = t.Columns[at].Comment
			t.Columns[at] = c
		}
	}
	t.Table.Columns = t.Columns
	return nil
}

// theirs says that a server refused what a person wrote.
func theirs(err error, what string) error {
	var said *engine.ServerError
	if errors.As(err, &said) {
		return domain.Invalid("%s cannot be read: %s", what, said.Text)
	}
	return fmt.Errorf("%s: %w", what, err)
}

func (p *planner) quoted(name string) string { return typemap.DialectOf(p.way.From).Quote(name) }
