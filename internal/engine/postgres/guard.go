package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/domain"
)

// Until a cutover, what stands on the target is the source's alone. A statement trigger on every
// table, and on every partition, refuses writes of everybody else: of whoever forgot that the table
// is being filled, not of a thief, who could take the trigger away. Our sessions say that they are
// ours (dusty_ferry.ours, see session), and those that apply changes pass triggers over anyway.

// guardTrigger is its name on every table.
const guardTrigger = "dusty_ferry_guard"

// guardFunction is what the triggers of a crossing call.
func guardFunction(crossing string) string {
	return bookkeeping + "." + quote("guard_"+crossing)
}

// refusing is the function's body while it refuses, and letting while it lets everybody pass.
const (
	refusing = `BEGIN
  IF current_setting('dusty_ferry.ours', true) = 'yes' THEN RETURN NULL; END IF;
  RAISE EXCEPTION '% is filled by Dusty Ferry until the cutover and takes no other writes', TG_RELID::regclass
    USING ERRCODE = 'read_only_sql_transaction', HINT = 'Write to the source; or see the setting guard_target.';
END`
	letting = "BEGIN RETURN NULL; END"
)

func guardSQL(crossing, body string) string {
	return "CREATE OR REPLACE FUNCTION " + guardFunction(crossing) +
		"() RETURNS trigger LANGUAGE plpgsql SET search_path = '' AS " + literal(body)
}

// guardedNames are the tables of plans, each with all of its partitions.
func (d *database) guardedNames(ctx context.Context, plans []domain.TablePlan) (map[domain.TableName][]string, error) {
	tables, out := map[string]domain.TableName{}, map[domain.TableName][]string{}
	var all []string
	for i := range plans {
		t := plans[i].Target
		tables[qualified(t)], out[t] = t, []string{qualified(t)}
		all = append(all, qualified(t))
	}
	rows, err := d.pool.Query(ctx, `
SELECT n, quote_ident(ns.nspname) || '.' || quote_ident(c.relname) FROM unnest($1::text[]) n
 CROSS JOIN LATERAL `+partitionTree("to_regclass(n)")+` t JOIN pg_class c ON c.oid = t.relid
  JOIN pg_namespace ns ON ns.oid = c.relnamespace WHERE c.relispartition AND t.relid <> to_regclass(n) ORDER BY 1, 2`,
		all)
	if err != nil {
		return nil, err
	}
	var of, name string
	_, err = pgx.ForEachRow(rows, []any{&of, &name}, func() error {
		out[tables[of]] = append(out[tables[of]], name)
		return nil
	})
	return out, err
}

// Guard makes the tables refuse writes of others. It can be repeated.
func (d *database) Guard(ctx context.Context, crossing string, plans []domain.TablePlan) error {
	names, err := d.guardedNames(ctx, plans)
	if err != nil {
		return d.explain(err)
	}
	var sql []string
	for _, p := range plans {
		for _, name := range names[p.Target] {
			sql = append(sql, guards(crossing, name))
		}
	}
	err = pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '10s'; "+guardSQL(crossing, refusing)); err != nil {
			return err
		}
		for piece := range slices.Chunk(sql, createdAtOnce) {
			if _, err := tx.Exec(ctx, strings.Join(piece, ";\n"), pgx.QueryExecModeSimpleProtocol); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("having the target's tables refuse writes of others: %w", d.explain(err))
	}
	return nil
}

// guards makes the trigger of one table.
func guards(crossing, name string) string {
	return fmt.Sprintf("DROP TRIGGER IF EXISTS %[1]s ON %[2]s; CREATE TRIGGER %[1]s BEFORE INSERT OR UPDATE OR DELETE OR "+
		"TRUNCATE ON %[2]s FOR EACH STATEMENT EXECUTE FUNCTION %[3]s()", guardTrigger, name, guardFunction(crossing))
}

// GuardNew guards partitions without a guard whose tables have one.
func (d *database) GuardNew(ctx context.Context, crossing string, plans []domain.TablePlan) (out []string, _ error) {
	names, err := d.guardedNames(ctx, plans)
	if err != nil {
		return nil, d.explain(err)
	}
	var all []string
	for _, list := range names {
		all = append(all, list...)
	}
	rows, err := d.pool.Query(ctx, "SELECT n FROM unnest($1::text[]) n JOIN pg_trigger t ON t.tgrelid = to_regclass(n) "+
		"WHERE t.tgfoid = to_regprocedure($2) AND t.tgname = $3", all, guardFunction(crossing)+"()", guardTrigger)
	if err != nil {
		return nil, d.explain(err)
	}
	have, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, d.explain(err)
	}
	for _, p := range plans {
		if !slices.Contains(have, qualified(p.Target)) {
			continue
		}
		for _, name := range names[p.Target][1:] {
			if slices.Contains(have, name) {
				continue
			}
			// What writes to it keeps it waiting, and is not to wait behind it for long.
			if _, err := d.pool.Exec(ctx, "SET LOCAL lock_timeout = '2s'; "+guards(crossing, name),
				pgx.QueryExecModeSimpleProtocol); err != nil {
				return out, fmt.Errorf("having the target's partition %s refuse writes of others: %w", name, d.explain(err))
			}
			out = append(out, name)
		}
	}
	return out, nil
}

// Guarded reports which of the tables refuse writes of others, they and all of their partitions.
func (d *database) Guarded(ctx context.Context, crossing string,
	plans []domain.TablePlan) (map[domain.TableName]bool, error) {
	return d.refusingTables(ctx, plans, guardTrigger, guardFunction(crossing), refusing)
}

// Closed reports which of the tables a cutover closed under that name, they and all of their partitions.
func (d *database) Closed(ctx context.Context, name string,
	plans []domain.TablePlan) (map[domain.TableName]bool, error) {
	return d.refusingTables(ctx, plans, name+"_moved", bookkeeping+"."+gate(name), "%RAISE EXCEPTION%")
}

// refusingTables reports which tables have the trigger of that name, they and all of their partitions, whose
// function has a body like the one that refuses.
func (d *database) refusingTables(ctx context.Context, plans []domain.TablePlan, trigger, function,
	body string) (map[domain.TableName]bool, error) {
	names, err := d.guardedNames(ctx, plans)
	if err != nil {
		return nil, d.explain(err)
	}
	var all []string
	for _, list := range names {
		all = append(all, list...)
	}
	rows, err := d.pool.Query(ctx, `
SELECT n FROM unnest($1::text[]) n WHERE EXISTS (SELECT FROM pg_trigger t JOIN pg_proc p ON p.oid = t.tgfoid
  WHERE t.tgrelid = to_regclass(n) AND t.tgname = $2 AND t.tgenabled IN ('O', 'A')
    AND p.oid = to_regprocedure($3) AND (p.prosrc = $4 OR p.prosrc LIKE $4))`, all, trigger, function+"()", body)
	if err != nil {
		return nil, d.explain(err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, d.explain(err)
	}
	refuse := map[string]bool{}
	for _, n := range list {
		refuse[n] = true
	}
	out := map[domain.TableName]bool{}
	for table, list := range names {
		out[table] = !slices.ContainsFunc(list, func(n string) bool { return !refuse[n] })
	}
	return out, nil
}

// OpenGuard lets everybody write at once, without a lock on any table.
func (d *database) OpenGuard(ctx context.Context, crossing string, open bool) error {
	var there bool
	err := d.pool.QueryRow(ctx, "SELECT to_regprocedure($1) IS NOT NULL", guardFunction(crossing)+"()").Scan(&there)
	if err != nil || !there {
		return d.explain(err)
	}
	body := refusing
	if open {
		body = letting
	}
	_, err = d.pool.Exec(ctx, guardSQL(crossing, body))
	return d.explain(err)
}

// unguardTries is how often a table is asked for its lock until its trigger can be dropped.
const unguardTries = 20

// Unguard takes the triggers away. Applications may use the tables by now: each has a transaction of its
// own, which holds no lock that another waits for, and gives up soon, so that nobody waits behind
// it for long.
func (d *database) Unguard(ctx context.Context, crossing string) error {
	function := guardFunction(crossing) + "()"
	for try := range unguardTries {
		rows, err := d.pool.Query(ctx, `
SELECT quote_ident(n.nspname) || '.' || quote_ident(c.relname) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace WHERE t.tgfoid = to_regprocedure($1)`, function)
		if err != nil {
			return d.explain(err)
		}
		left, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return d.explain(err)
		}
		if len(left) == 0 {
			_, err := d.pool.Exec(ctx, "DROP FUNCTION IF EXISTS "+function)
			return d.explain(err)
		}
		if try > 0 {
			select {
			case <-time.After(300 * time.Millisecond):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		for _, name := range left {
			err := pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
				_, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '100ms'; DROP TRIGGER IF EXISTS "+guardTrigger+" ON "+name)
				return err
			})
			var pe *pgconn.PgError
			if err != nil && (!errors.As(err, &pe) || pe.Code != "55P03" && pe.Code != "40P01" && pe.Code != "42P01") {
				return d.explain(err)
			}
		}
	}
	return domain.Unavailable(nil, "tables of the target are locked for too long to take the triggers away that refuse "+
		"nobody any more; end what holds them, and close the crossing again")
}
