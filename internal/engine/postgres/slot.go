package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// CaptureUndo returns what restores the row identities that PrepareCapture sets, of a root
// and each of its partitions as it was.
func (d *database) CaptureUndo(plans []domain.TablePlan) []string {
	var undo []string
	for i := range plans {
		for _, t := range identityTables(&plans[i]) {
			if strings.EqualFold(t.Identity, plans[i].SetIdentity) {
				continue // by somebody else, or by us in an attempt before, which kept what it was
			}
			undo = append(undo, fmt.Sprintf("ALTER TABLE IF EXISTS %s REPLICA IDENTITY %s", qualified(t.Table), t.Identity))
		}
	}
	return undo
}

// identityTables lists the tables whose row identity has to be set, with what it is: the
// table itself, and the leaves of a partitioned one.
func identityTables(p *domain.TablePlan) []domain.Partition {
	if p.SetIdentity == "" {
		return nil
	}
	out := []domain.Partition{{Table: p.Source, Identity: p.Table.Identity}}
	for _, part := range p.Table.Partitions {
		if part.By == "" {
			out = append(out, part)
		}
	}
	for i := range out {
		if out[i].Identity == "" { // planned by an older version
			out[i].Identity = "DEFAULT"
		}
	}
	return out
}

// KeepsEarlier is false: a slot gives the log from where it was made.
func (d *database) KeepsEarlier() bool { return false }

// PrepareCapture makes row identity, publication and replication slot, in this
// order: a published table whose rows the log cannot identify would refuse its
// own updates, and a slot only knows publications that stood before it.
func (d *database) PrepareCapture(ctx context.Context, name string, plans []domain.TablePlan) (domain.Position, error) {
	var tables []string
	for i := range plans {
		for _, t := range d.published(&plans[i]) {
			tables = append(tables, qualified(t))
		}
		for _, t := range identityTables(&plans[i]) {
			if err := d.alterQuickly(ctx, fmt.Sprintf("ALTER TABLE %s REPLICA IDENTITY %s", qualified(t.Table),
				strings.ToUpper(plans[i].SetIdentity))); err != nil {
				return domain.Position{}, fmt.Errorf("setting the row identity of %s: %w", t.Table, err)
			}
		}
	}
	var at string
	err := d.pool.QueryRow(ctx, `SELECT confirmed_flush_lsn::text FROM pg_replication_slots WHERE slot_name = $1
  AND plugin = 'pgoutput'`, name).Scan(&at)
	if err == nil {
		return parseAt(at, d.publishMore(ctx, name, plans))
	}
	if !errors.Is(err, pgx.ErrNoRows) {
		return domain.Position{}, d.explain(err)
	}
	if _, err := d.pool.Exec(ctx, "DROP PUBLICATION IF EXISTS "+quote(name)); err != nil {
		return domain.Position{}, d.explain(err)
	}
	sql := "CREATE PUBLICATION " + quote(name)
	if len(tables) > 0 { // of partitions alone there may be none yet
		sql += " FOR TABLE " + strings.Join(tables, ", ")
	}
	if d.throughRoot() {
		sql += " WITH (publish_via_partition_root = true)"
	}
	if err := d.alterQuickly(ctx, sql); err != nil {
		return domain.Position{}, fmt.Errorf("creating the publication: %w", err)
	}
	if err := d.pool.QueryRow(ctx, `SELECT lsn::text FROM pg_create_logical_replication_slot($1, 'pgoutput')`, name).Scan(
		&at); err != nil {
		return domain.Position{}, fmt.Errorf("creating the replication slot: %w", d.explain(err))
	}
	return parseLSN(at)
}

// Mind gives new partitions of a table the row identity that its others have, without which
// the server refuses the application's own updates of what is published, and looks whether
// every table is published still: the very table that was planned, not another of its name.
func (d *database) Mind(ctx context.Context, name string, plans []domain.TablePlan,
	undo func(sql string) error) ([]domain.TableName, error) {
	var names []string
	var of []domain.TableName
	for i := range plans {
		p := &plans[i]
		if p.SetIdentity == "" && (p.Table.PartitionBy == "" || d.throughRoot()) {
			names, of = append(names, qualified(p.Source)), append(of, p.Source)
			continue
		}
		parts, err := d.partitionsNow(ctx, p.Source, p.Table.PartitionBy != "")
		if err != nil {
			return nil, err
		}
		for t, identity := range parts {
			if !d.throughRoot() && t != p.Source {
				names, of = append(names, qualified(t)), append(of, p.Source)
			}
			if p.SetIdentity == "" || identity == p.SetIdentity[:1] {
				continue
			}
			if t != p.Source { // a new partition; what the table itself was is kept already
				if err := undo(fmt.Sprintf("ALTER TABLE IF EXISTS %s REPLICA IDENTITY DEFAULT", qualified(t))); err != nil {
					return nil, err
				}
			}
			if err := d.alterQuickly(ctx, fmt.Sprintf("ALTER TABLE %s REPLICA IDENTITY %s", qualified(t),
				strings.ToUpper(p.SetIdentity)), whilePublished(name)); err != nil {
				return nil, err
			}
		}
		if d.throughRoot() || p.Table.PartitionBy == "" {
			names, of = append(names, qualified(p.Source)), append(of, p.Source)
		}
	}
	rows, err := d.pool.Query(ctx, `
WITH published AS (SELECT to_regclass(quote_ident(schemaname) || '.' || quote_ident(tablename))::oid AS id
  FROM pg_publication_tables WHERE pubname = $1),
planned AS (SELECT at, to_regclass(name)::oid AS id FROM unnest($2::text[]) WITH ORDINALITY AS u(name, at))
SELECT at - 1 FROM planned WHERE id IS NOT NULL AND EXISTS (SELECT FROM pg_publication WHERE pubname = $1)
   AND id NOT IN (SELECT id FROM published WHERE id IS NOT NULL)`, name, names)
	if err != nil {
		return nil, d.explain(err)
	}
	var out []domain.TableName
	var at int
	_, err = pgx.ForEachRow(rows, []any{&at}, func() error { out = append(out, of[at]); return nil })
	return out, d.explain(err)
}

// partitionsNow are the partitions that hold rows, each with the letter of its row identity;
// what inherits from a table without being a partition of it is a table of its own.
func (d *database) partitionsNow(ctx context.Context, root domain.TableName,
	parted bool) (map[domain.TableName]string, error) {
	rows, err := d.pool.Query(ctx, `
SELECT n.nspname, c.relname, c.relreplident::text FROM `+partitionTree("to_regclass($1)")+
		` t JOIN pg_class c ON c.oid = t.relid JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE t.isleaf AND (t.level = 0 OR $2)`, qualified(root), parted)
	if err != nil {
		return nil, d.explain(err)
	}
	out := map[domain.TableName]string{}
	var t domain.TableName
	var identity string
	_, err = pgx.ForEachRow(rows, []any{&t.Schema, &t.Name, &identity}, func() error { out[t] = identity; return nil })
	return out, d.explain(err)
}

// guard says in a transaction whether what it is for may still be done.
type guard func(context.Context, pgx.Tx) (bool, error)

// whilePublished lets nothing be done once the publication has been dropped, and keeps it from
// being dropped meanwhile: what closing has restored is not set again.
func whilePublished(name string) guard {
	return func(ctx context.Context, tx pgx.Tx) (bool, error) {
		var there bool
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock_shared(hashtextextended($1, 1))", name); err != nil {
			return false, err
		}
		err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_publication WHERE pubname = $1)", name).Scan(&there)
		return there, err
	}
}

// publishMore adds tables to a publication that stands.
func (d *database) publishMore(ctx context.Context, name string, plans []domain.TablePlan) error {
	rows, err := d.pool.Query(ctx, `
SELECT n.nspname, c.relname FROM pg_publication p JOIN pg_publication_rel r ON r.prpubid = p.oid
  JOIN pg_class c ON c.oid = r.prrelid JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE p.pubname = $1`, name)
	if err != nil {
		return d.explain(err)
	}
	there := map[domain.TableName]bool{}
	var t domain.TableName
	if _, err := pgx.ForEachRow(rows, []any{&t.Schema, &t.Name}, func() error {
		there[t] = true
		return nil
	}); err != nil {
		return d.explain(err)
	}
	for i := range plans {
		for _, s := range d.published(&plans[i]) {
			if len(there) == 0 || there[s] {
				continue
			}
			if err := d.alterQuickly(ctx, fmt.Sprintf("ALTER PUBLICATION %s ADD TABLE %s", quote(name),
				qualified(s))); err != nil {
				var said *pgconn.PgError
				if errors.As(err, &said) && said.Code == "42501" {
					return domain.Conflict("the changes of %s cannot be followed: %s. Make %s its owner, or a member of the role "+
						"that owns it (GRANT … TO %s), and try again", s, err, d.conf.User, quote(d.conf.User))
				}
				return fmt.Errorf("adding %s to the publication: %w", s, err)
			}
		}
	}
	return nil
}

func parseAt(at string, err error) (domain.Position, error) {
	if err != nil {
		return domain.Position{}, err
	}
	return parseLSN(at)
}

// alterQuickly runs DDL that needs a lock for an instant, without queueing the
// source's own work behind a long wait.
func (d *database) alterQuickly(ctx context.Context, sql string, guards ...guard) error {
	for try := 0; ; try++ {
		err := pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '2s'"); err != nil {
				return err
			}
			for _, allowed := range guards {
				if ok, err := allowed(ctx, tx); err != nil || !ok {
					return err
				}
			}
			_, err := tx.Exec(ctx, sql)
			return err
		})
		var pe *pgconn.PgError
		if !errors.As(err, &pe) || pe.Code != "55P03" && pe.Code != "40P01" {
			return d.explain(err)
		}
		if try == 9 {
			said := d.explain(err)
			if list, err := d.OpenTransactions(ctx, time.Second); err == nil && len(list) > 0 {
				return domain.Unavailable(said, "%s keeps it from being locked; end it or wait for it, then try again", list[0])
			}
			return said
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(try+1) * 300 * time.Millisecond):
		}
	}
}

// DropCapture removes slot and publication and restores what was changed.
func (d *database) DropCapture(ctx context.Context, name string, undo []string) error {
	_, err := d.pool.Exec(ctx, `SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE slot_name = $1
  AND active`, name)
	if err != nil {
		return d.explain(err)
	}
	for try := 0; ; try++ {
		_, err = d.pool.Exec(ctx, `SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = $1`,
			name)
		if err == nil || try == 20 {
			break
		}
		time.Sleep(100 * time.Millisecond) // the ended session is still letting go
	}
	if err != nil {
		return d.explain(err)
	}
	err = pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 1))", name)
		if err == nil {
			_, err = tx.Exec(ctx, "DROP PUBLICATION IF EXISTS "+quote(name))
		}
		return err
	})
	if err != nil {
		return d.explain(err)
	}
	for _, sql := range undo {
		if err := d.alterQuickly(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// Heartbeat writes a message into the log, in a transaction of its own; no
// table is needed for it.
func (d *database) Heartbeat(ctx context.Context) (domain.Position, error) {
	var at string
	if err := d.pool.QueryRow(ctx, `SELECT pg_logical_emit_message(true, 'dusty_ferry', 'heartbeat')::text`).Scan(
		&at); err != nil {
		return domain.Position{}, d.explain(err)
	}
	return parseLSN(at)
}

// Clock returns the server's time.
func (d *database) Clock(ctx context.Context) (time.Time, error) {
	var t time.Time
	err := d.pool.QueryRow(ctx, `SELECT clock_timestamp()`).Scan(&t)
	return t, d.explain(err)
}

// Snapshot returns what a new read would see now.
func (d *database) Snapshot(ctx context.Context) (domain.Snapshot, error) {
	var s string
	if err := d.pool.QueryRow(ctx, "SELECT "+d.snapshotFunction()+"::text").Scan(&s); err != nil {
		return domain.Snapshot{}, d.explain(err)
	}
	return parseSnapshot(s)
}

// Retained returns how much log the slot holds back.
func (d *database) Retained(ctx context.Context, name string, _ domain.Position) (engine.Retained, error) {
	r := engine.Retained{Held: true}
	var from, to string
	err := d.pool.QueryRow(ctx, `
SELECT coalesce(pg_wal_lsn_diff(now, restart_lsn), 0)::bigint, coalesce(restart_lsn::text, '0/0'), now::text
  FROM pg_replication_slots, pg_current_wal_lsn() AS now WHERE slot_name = $1`, name).Scan(&r.Bytes, &from, &to)
	if errors.Is(err, pgx.ErrNoRows) {
		return engine.Retained{}, nil
	}
	if err == nil {
		r.From, err = parseLSN(from)
	}
	if err == nil {
		r.To, err = parseLSN(to)
	}
	return r, d.explain(err)
}

// LogBytes returns how many bytes of log lie between two places.
func (d *database) LogBytes(_ context.Context, from, to domain.Position) (int64, error) {
	return int64(max(to.Number(), from.Number()) - from.Number()), nil
}

// CheckCapture wants a slot and a publication of that name, which holds all the tables.
func (d *database) CheckCapture(ctx context.Context, name string, plans []domain.TablePlan) (domain.Position, error) {
	var at, plugin string
	err := d.pool.QueryRow(ctx, `SELECT coalesce(confirmed_flush_lsn::text, ''), coalesce(plugin, '')
  FROM pg_replication_slots WHERE slot_name = $1 AND database = current_database()`, name).Scan(&at, &plugin)
	switch {
	case errors.Is(err, pgx.ErrNoRows), err == nil && (plugin != "pgoutput" || at == ""):
		return domain.Position{},
			domain.Conflict("the source has no replication slot %s for pgoutput in this database; before the copy "+
				"was made there should have been: CREATE PUBLICATION %s FOR TABLE …; SELECT "+
				"pg_create_logical_replication_slot(%s, 'pgoutput')", name, quote(name), literal(name))
	case err != nil:
		return domain.Position{}, d.explain(err)
	}
	for i := range plans {
		for _, t := range d.published(&plans[i]) {
			var there bool
			if err := d.pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_publication_tables WHERE pubname = $1
  AND schemaname = $2 AND tablename = $3)
 AND EXISTS (SELECT FROM pg_publication WHERE pubname = $1 AND pubinsert AND pubupdate AND pubdelete AND pubtruncate)`,
				name, t.Schema, t.Name).Scan(&there); err != nil {
				return domain.Position{}, d.explain(err)
			}
			if !there {
				return domain.Position{},
					domain.Conflict("the source has no publication %s that publishes every kind of change of %s; it has to "+
						"be there since before the slot was made", name, t)
			}
		}
		// Read as JSON, as older servers lack these columns.
		var some, root string
		if err := d.pool.QueryRow(ctx, `
SELECT coalesce((SELECT CASE WHEN to_jsonb(r) ->> 'prqual' IS NOT NULL THEN 'some rows'
  WHEN to_jsonb(r) ->> 'prattrs' IS NOT NULL THEN 'some columns' END
                   FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE p.pubname = $1
                     AND r.prrelid = to_regclass($2)), ''),
       coalesce((SELECT to_jsonb(p) ->> 'pubviaroot' FROM pg_publication p WHERE p.pubname = $1), '')`, name,
			qualified(plans[i].Source)).Scan(&some, &root); err != nil {
			return domain.Position{}, d.explain(err)
		}
		if some != "" {
			return domain.Position{},
				domain.Conflict("the publication %s gives %s of %s only, so others would be lost in silence; publish it "+
					"whole (ALTER PUBLICATION %s SET TABLE …, without a condition or a list), before the slot and the copy "+
					"are made anew", name, some, plans[i].Source, quote(name))
		}
		if plans[i].Table.PartitionBy != "" && d.throughRoot() && root != "true" {
			return domain.Position{},
				domain.Conflict("the publication %s names the partitions of %s instead of the table itself: ALTER "+
					"PUBLICATION %s SET (publish_via_partition_root = true), before the slot and the copy are made anew", name,
					plans[i].Source, quote(name))
		}
	}
	return parseLSN(at)
}

// ResolveGTID knows no GTIDs: a standby that was promoted has no slot, so nothing
// says that it has kept the log from there on.
func (d *database) ResolveGTID(context.Context, string) (domain.Position, error) {
	return domain.Position{},
		domain.Conflict("a PostgreSQL source cannot be followed on another server: what kept its log for the " +
			"crossing stands on the first one alone; restart the crossing to load from this one")
}

// OpenTransactions lists writing transactions: a logical slot is made only when all that are open
// have ended. Of other users' sessions the server may hide since when they write; those are
// listed where seconds count.
func (d *database) OpenTransactions(ctx context.Context, least time.Duration) ([]string, error) {
	rows, err := d.pool.Query(ctx, `
SELECT what || coalesce(', open for ' || date_trunc('second', since)::text, '') FROM (
  SELECT 'the transaction of ' || coalesce(a.usename, 'somebody') || ' in ' || coalesce(a.datname,
    '?') || ' (process ' || l.pid || coalesce(', ' || nullif(a.application_name, ''), '') || ')' AS what,
    clock_timestamp() - a.xact_start AS since
    FROM pg_locks l LEFT JOIN pg_stat_activity a ON a.pid = l.pid
   WHERE l.locktype = 'transactionid' AND l.mode = 'ExclusiveLock' AND l.granted AND l.pid <> pg_backend_pid()
     AND coalesce(a.application_name, '') NOT LIKE 'dusty-ferry%'
  UNION ALL
  SELECT 'the prepared transaction ' || quote_literal(gid) || ' in ' || database, clock_timestamp() - prepared
    FROM pg_prepared_xacts
) x WHERE since >= $1 OR since IS NULL AND $1 < interval '10 s' ORDER BY since DESC NULLS LAST`, least)
	if err != nil {
		return nil, d.explain(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return out, d.explain(err)
}
