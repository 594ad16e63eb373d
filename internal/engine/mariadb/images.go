package mariadb

import (
	"context"
	"strings"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/statement"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/binlog"
)

// How rows of the log, whole or in parts, become rows of a plan.

// complete says what an image leaves unsaid: of a row that is new, columns left to
// their defaults; of one that has changed, what has not.
func (c *capture) complete(ctx context.Context, k *captured, ch *domain.Change) error {
	if !fold.HasUnchanged(ch.New) {
		return nil
	}
	if ch.Kind == domain.Update {
		if ch.Unsure = !c.sure(k); ch.Unsure && len(k.key) == 0 {
			return domain.Conflict("the source's log lacks columns of a changed row of %s, which has no key to read it by; "+
				"set binlog_row_image = FULL there, let sessions connect anew, and restart the table", k.table.Plan.Source)
		}
		if !fold.Complete(ch, k.key) {
			return domain.Conflict("the log of the source does not say which row of %s an update changed; set "+
				"binlog_row_image = FULL there, and restart the table", k.table.Plan.Source)
		}
		return nil
	}
	if k.defaults == nil {
		var err error
		if k.defaults, err = c.d.defaults(ctx, k.table.Plan); err != nil {
			return err
		}
	}
	for i := range ch.New {
		if ch.New[i].Kind != domain.Unchanged {
			continue
		}
		if ch.New[i] = k.defaults[i]; ch.New[i].Kind == domain.Unchanged {
			return domain.Conflict("the source's log leaves column %s of a new row of %s unsaid, and its default is not "+
				"known; set binlog_row_image to FULL there, and restart the table", k.table.Plan.Columns[i].Name,
				k.table.Plan.Source)
		}
	}
	return nil
}

// sure reports whether columns that the image of a changed row leaves out are as they were.
// With binlog_row_image MINIMAL or NOBLOB, a REPLACE that the server carries out as an update of
// the row logs only the columns that it names; the others have their defaults from then on, and
// nothing in the row events tells that from an UPDATE, or an INSERT … ON DUPLICATE KEY UPDATE.
// The statement's text does, where the log has it, and where it is the one that changed the
// table: neither triggers nor functions can change a table that their statement writes.
//
// Seen on MariaDB 10.11.
func (c *capture) sure(k *captured) bool {
	if c.ran == "" {
		return false
	}
	n, ok := statement.Changes(c.ran, statement.Mode{})
	of := k.table.Plan.Source
	return ok && n.Table == of.Name && (n.Schema == of.Schema || n.Schema == "" && c.maps == 1)
}

// defaults are what the columns of a new row hold that says nothing of them, in
// the target's form; unchanged where only the server could tell.
func (d *database) defaults(ctx context.Context, p *domain.TablePlan) (domain.Row, error) {
	var list []string
	var known []bool
	for _, c := range p.Columns {
		ask := "NULL"
		moving := strings.HasPrefix(strings.ToLower(c.Default), "current")
		plain := c.Default == "" && !c.NotNull || c.Default != "" && simpleDefault.MatchString(c.Default) && !moving
		says := c.Computed == "" && c.Identity == "" && plain
		if known = append(known, says); says && c.Default != "" {
			ask = selected(c, "DEFAULT(t."+quote(c.Name)+")")
		}
		list = append(list, ask)
	}
	w, err := d.dial(ctx, reading...)
	if err != nil {
		return nil, err
	}
	defer w.close()
	var out domain.Row
	err = w.readAs(ctx, p, converters(p), "SELECT "+strings.Join(list, ", ")+" FROM (SELECT 1) one LEFT JOIN "+
		qualified(p.Source)+" t ON false", func(_ []byte, fields [][]byte) error {
		out = engine.TextRow(fields)
		return nil
	})
	for i := range out {
		if !known[i] {
			out[i] = domain.Value{Kind: domain.Unchanged}
		}
	}
	return out, d.explain(err)
}

// row makes a row of the plan from an image; unsaid is what stands for columns
// that the image leaves out.
func (k *captured) row(image []binlog.Value, unsaid domain.Value) (domain.Row, error) {
	out := make(domain.Row, k.width)
	size := 0
	for _, v := range image {
		size += len(v.Data) + 8
	}
	text := make([]byte, 0, size)
	for i, v := range image {
		at := k.at[i]
		if v.Absent && at >= 0 {
			out[at] = unsaid
		}
		if v.Null || v.Absent || at < 0 {
			continue
		}
		plain, err := k.shape[i].value(v.Data)
		if err != nil {
			return nil, domain.Conflict("column %s of %s in the log: %s", k.names[i], k.table.Plan.Source, err)
		}
		from := len(text)
		var ok bool
		if text, ok, err = k.conv[at](text, plain); err != nil {
			return nil, domain.Conflict("column %s of %s: %s", k.names[i], k.table.Plan.Source, err)
		}
		if ok {
			out[at] = domain.Value{Kind: domain.Present, Data: text[from:len(text):len(text)]}
		}
	}
	return out, nil
}
