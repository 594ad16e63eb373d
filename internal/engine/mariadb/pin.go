package mariadb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"strings"

	"dustyferry/internal/domain"
)

// What a server, its init_connect or a user's own settings give a session can change which
// rows pass and what their values look like. Every session of ours is set here first, wires
// and pooled ones alike, and what it is then is read back.

// pinned are the settings of every session, as the server writes them. What some sessions
// need otherwise they set themselves, later.
var pinned = [][2]string{
	{"character_set_client", "'utf8mb4'"}, {"character_set_connection", "'utf8mb4'"}, {"character_set_results",
		"'utf8mb4'"},
	{"collation_connection", "'utf8mb4_general_ci'"},
	{"sql_mode", sqlMode}, // no PAD_CHAR_TO_FULL_LENGTH, NO_BACKSLASH_ESCAPES, ANSI_QUOTES
	{"sql_select_limit", "18446744073709551615"}, {"sql_safe_updates", "0"}, {"sql_big_selects", "1"},
	{"sql_auto_is_null", "0"},
	{"max_statement_time", "0"}, {"idle_transaction_timeout", "0"}, {"idle_readonly_transaction_timeout", "0"},
	{"idle_write_transaction_timeout", "0"},
	{"wait_timeout", "28800"}, {"net_write_timeout", "3600"}, {"net_read_timeout", "3600"}, {"time_zone", "'+00:00'"},
	{"tx_isolation", "'REPEATABLE-READ'"}, {"autocommit", "1"}, {"completion_type", "'NO_CHAIN'"}, {"foreign_key_checks",
		"1"}, {"unique_checks", "1"},
	{"sql_notes", "1"},                                                              // what would be cut is told by a note
	{"system_versioning_asof", "'DEFAULT'"}, {"group_concat_max_len", "1073741824"}, // of JSON_ARRAYAGG too
}

// pinning are the statements that set a session, and the last of them asks which settings
// did not become what they were to.
var pinning = func() []string {
	var set, ask []string
	for _, p := range pinned {
		value := p[1]
		if p[0] == "system_versioning_asof" {
			value = "DEFAULT"
		}
		set = append(set, p[0]+" = "+value)
		if p[0] == "sql_mode" { // the server gives it in another order
			ask = append(ask, "IF(@@sql_mode REGEXP "+
				"'PAD_CHAR_TO_FULL_LENGTH|NO_BACKSLASH_ESCAPES|ANSI_QUOTES|EMPTY_STRING_IS_NULL|PIPES_AS_CONCAT' OR NOT "+
				"find_in_set('STRICT_ALL_TABLES', @@sql_mode), ' sql_mode', '')")
			continue
		}
		ask = append(ask, fmt.Sprintf("IF(@@%s = %s, '', ' %s')", p[0], p[1], p[0]))
	}
	return []string{"SET NAMES utf8mb4 COLLATE utf8mb4_general_ci", "SET SESSION " + strings.Join(set, ", "),
		"SELECT CONCAT(" + strings.Join(ask, ", ") + ")"}
}()

func (d *database) unpinned(names string) error {
	if names = strings.TrimSpace(names); names == "" {
		return nil
	}
	return domain.Conflict("%s does not let our sessions set %s, on which it depends which rows and values pass; see "+
		"its init_connect and its plugins", d.name, strings.ReplaceAll(names, " ", ", "))
}

// pin sets a wire's session.
func (d *database) pin(ctx context.Context, c *wire) error {
	answer := "everything"
	if err := c.together(ctx, pinning, func(_ int, f [][]byte) error { answer = string(f[0]); return nil }); err != nil {
		return err
	}
	return d.unpinned(answer)
}

// pinner sets the sessions of the pool.
type pinner struct {
	driver.Connector
	d *database
}

func (p pinner) Connect(ctx context.Context) (driver.Conn, error) {
	conn, err := p.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	if err := p.pin(ctx, conn); err != nil {
		_ = conn.Close()
		return nil, err
	}
	return conn, nil
}

func (p pinner) pin(ctx context.Context, conn driver.Conn) error {
	last := len(pinning) - 1
	for _, q := range pinning[:last] {
		if _, err := conn.(driver.ExecerContext).ExecContext(ctx, q, nil); err != nil {
			return err
		}
	}
	rows, err := conn.(driver.QueryerContext).QueryContext(ctx, pinning[last], nil)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	answer := make([]driver.Value, 1)
	if err := rows.Next(answer); errors.Is(err, io.EOF) {
		return fmt.Errorf("%s did not say how its session is set", p.d.name)
	} else if err != nil {
		return err
	}
	said, ok := answer[0].([]byte)
	if !ok {
		return fmt.Errorf("%s did not say how its session is set", p.d.name)
	}
	return p.d.unpinned(string(said))
}
