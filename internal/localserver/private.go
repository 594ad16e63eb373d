package localserver

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// PrivateName is the role and the database of a private server. The role owns the
// database and is no superuser.
const PrivateName = "dustyferry"

// privatePort only names the socket; nothing listens on a network.
const privatePort = 5432

// longestSocket is what an address of a Unix socket holds (unix(7), sun_path).
const longestSocket = 107

// makePrivate prepares a server that only its own user reaches: the socket's directory,
// the one line of who may sign in, the role and its database. A data directory of before
// there was a role (records in the database postgres, owned by the superuser) is taken
// over. All of it can be repeated: the file with that line is written last.
func (p *Postgres) makePrivate(ctx context.Context) error {
	p.User, p.Port, p.database = PrivateName, privatePort, PrivateName
	if err := p.makeSocketDir(); err != nil {
		return err
	}
	if exists(p.hba()) {
		return nil
	}
	const role = `DO $$ BEGIN IF to_regrole('` + PrivateName + `') IS NULL THEN CREATE ROLE ` + PrivateName +
		` LOGIN; END IF; END $$;`
	out, err := p.single(ctx, "postgres", role,
		`SELECT 'records stand here' WHERE to_regclass('public.goose_db_version') IS NOT NULL;`)
	if err != nil {
		return err
	}
	if strings.Contains(out, "records stand here") {
		if _, err := p.single(ctx, "postgres", strings.Join(strings.Fields(handOver), " ")); err != nil {
			return err
		}
		_, err = p.single(ctx, "template1", `ALTER DATABASE postgres RENAME TO `+PrivateName+`;`,
			`ALTER DATABASE `+PrivateName+` OWNER TO `+PrivateName+`;`)
	} else if out, err = p.single(ctx, "template1", `SELECT 'it is made' FROM pg_database WHERE datname = '`+PrivateName+
		`';`); err == nil &&
		!strings.Contains(out, "it is made") {
		_, err = p.single(ctx, "template1", `CREATE DATABASE `+PrivateName+` OWNER `+PrivateName+`;`)
	}
	if err != nil {
		return err
	}
	// Whoever can reach the socket is this user already; nobody else is let in, the
	// superuser included (its user has 'postgres --single').
	line := "local " + PrivateName + " " + PrivateName + " trust\n"
	if err := os.WriteFile(p.hba(), []byte(line), 0o600); err != nil {
		return fmt.Errorf("writing who may sign in to the control database: %w", err)
	}
	return own(p.hba())
}

// handOver makes the role the owner of everything that the records and the queue made.
// What belongs to a table (its sequences, its row type) goes with the table.
const handOver = `
DO $$ DECLARE x record; BEGIN
  FOR x IN SELECT format('ALTER %s %s OWNER TO ` + PrivateName +
	`', CASE c.relkind WHEN 'S' THEN 'SEQUENCE' WHEN 'v' THEN 'VIEW' ELSE 'TABLE' END, c.oid::regclass) AS act
             FROM pg_class c
            WHERE c.relnamespace = 'public'::regnamespace AND c.relkind IN ('r', 'p', 'v', 'S')
              AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype IN ('a', 'i'))
  LOOP EXECUTE x.act; END LOOP;
  FOR x IN SELECT format('ALTER TYPE %s OWNER TO ` + PrivateName + `', t.oid::regtype) AS act
             FROM pg_type t WHERE t.typnamespace = 'public'::regnamespace AND t.typtype IN ('e', 'd')
  LOOP EXECUTE x.act; END LOOP;
  FOR x IN SELECT format('ALTER ROUTINE %s OWNER TO ` + PrivateName + `', f.oid::regprocedure) AS act
             FROM pg_proc f WHERE f.pronamespace = 'public'::regnamespace
  LOOP EXECUTE x.act; END LOOP;
  EXECUTE 'ALTER SCHEMA public OWNER TO ` + PrivateName + `';
END $$;`

func (p *Postgres) hba() string { return filepath.Join(p.Dir, "sign-in.conf") }

// makeSocketDir makes the directory of the socket: in the data directory, or a new
// temporary one where that path is too long for a socket.
func (p *Postgres) makeSocketDir() error {
	dir := filepath.Join(p.Dir, "socket")
	if len(dir)+len("/.s.PGSQL.5432.lock") > longestSocket {
		var err error
		if dir, err = os.MkdirTemp("", "dusty-ferry-"); err != nil {
			return fmt.Errorf("making the directory of the control database's socket: %w", err)
		}
		p.process.remove = dir
	} else if err := os.Mkdir(dir, 0o700); err != nil && !os.IsExist(err) {
		return fmt.Errorf("making the directory of the control database's socket: %w", err)
	}
	st, err := os.Lstat(dir)
	if err != nil {
		return fmt.Errorf("the directory of the control database's socket: %w", err)
	}
	if !st.IsDir() {
		return fmt.Errorf("%s is no directory; remove it, the control database's socket belongs there", dir)
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return fmt.Errorf("closing the directory of the control database's socket to others: %w", err)
	}
	p.Host = dir
	return own(dir)
}

// privately are the settings of a private server.
func (p *Postgres) privately() map[string]string {
	return map[string]string{"listen_addresses": "", "unix_socket_directories": p.Host, "unix_socket_permissions": "0700",
		"hba_file": p.hba()}
}

// single runs statements as the superuser without any server: in the server's
// single-user mode, which needs no sign-in. Each statement is one line.
func (p *Postgres) single(ctx context.Context, database string, statements ...string) (string, error) {
	bin, err := p.bin("postgres")
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, bin, "--single", "-D", p.data(), "-c", "exit_on_error=on", "-c", "log_checkpoints=off",
		database)
	if err := asUser(cmd); err != nil {
		return "", err
	}
	cmd.Stdin = strings.NewReader(strings.Join(statements, "\n") + "\n")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("preparing the control database: %w: %s", err, bytes.TrimSpace(out))
	}
	return string(out), nil
}
