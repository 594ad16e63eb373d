package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) databaseCmd() *cobra.Command {
	c := &cobra.Command{Use: "database", Aliases: []string{"databases", "db"}, Short: "Register, check and list databases"}
	c.AddCommand(a.databaseAdd(), a.databaseList(), a.databaseShow(), a.databaseCheck(), a.databaseChange(),
		a.databaseTraces(), a.databaseRemove())
	return c
}

func (a *app) databaseAdd() *cobra.Command {
	var d contract.NewDatabase
	var engine, tls, file string
	c := &cobra.Command{
		Use: "add NAME", Short: "Register a database; it is reached once to see that all is right",
		Args: exactly("the database's NAME"),
		Long: `Register a database. The password is read from DUSTYFERRY_DATABASE_PASSWORD, or
asked for; it is kept encrypted and never shown again.

With --file it is a file on the service's machine (SQLite, rows as texts, or JSON lines; a folder
or a pattern for several as one table), in a folder that the service was
started with (serve --files); what it is is found by looking into it. With --engine sqlite one
that is not there yet is made. With --engine folder rows are written to files in a folder, which
is empty or is made.`,
		Example: `  dustyferry database add old --host 127.0.0.1 --port 5432 --database shop --user dusty
  dustyferry database add shop --file /srv/files/shop.db
  dustyferry database add copy --file /srv/files/copy.db --engine sqlite
  dustyferry database add export --file /srv/files/export --engine folder`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if file != "" {
				for _, f := range []string{"host", "port", "database", "user", "tls"} {
					if cmd.Flags().Changed(f) {
						return exitWith(ExitUsage, "--%s is of a server, and --file of a file: give one of them", f)
					}
				}
				if !cmd.Flags().Changed("engine") {
					engine = "file"
				}
				tls = "disable"
				d.Host, d.Port, d.Database = "", 0, file
			} else if d.Password, err = a.password(); err != nil {
				return err
			}
			d.Name, d.Engine = args[0], engine
			d.Tls = (*contract.NewDatabaseTls)(&tls)
			out, err := client.Do[contract.Database](api.API.AddDatabaseWithResponse(cmd.Context(), d))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				w.line("Database %s is registered and was reached (%s at %s).", out.Name, out.Engine, whereIs(&out))
			})
		},
	}
	f := c.Flags()
	f.StringVar(&engine, "engine", "postgres", "engine of the database: postgres, mariadb, sqlite or folder")
	f.StringVar(&file, "file", "", "path of a file on the service's machine, or of a folder or a pattern")
	f.StringVar(&d.Host, "host", "127.0.0.1", "host name or address")
	f.IntVar(&d.Port, "port", 5432, "port")
	f.StringVar(&d.Database, "database", "", "name of the database on the server")
	f.StringVar(&d.User, "user", "", "user to sign in as")
	f.StringVar(&tls, "tls", "prefer", "encryption: disable, prefer, require or verify-full")
	return c
}

// whereIs says where a database is.
func whereIs(d *contract.Database) string {
	if d.Host == "" {
		return d.Database
	}
	return fmt.Sprintf("%s:%d/%s", d.Host, d.Port, d.Database)
}

func (a *app) databaseChange() *cobra.Command {
	var host, user, tls string
	var port int
	var password bool
	c := &cobra.Command{
		Use: "change NAME", Short: "Change where a database is reached, or how to sign in",
		Args: exactly("the database's NAME"),
		Long: `Change a database's address, user, password or encryption; what is not named stays.
It is reached once in the new way before anything is kept. With --password it is read from
DUSTYFERRY_DATABASE_PASSWORD, or asked for; another host or port, or weaker encryption,
needs it again.`,
		Example: `  dustyferry database change old --host 127.0.0.1 --port 5433`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			var d contract.DatabaseChange
			f := cmd.Flags()
			if f.Changed("host") {
				d.Host = &host
			}
			if f.Changed("port") {
				d.Port = &port
			}
			if f.Changed("user") {
				d.User = &user
			}
			if f.Changed("tls") {
				d.Tls = &tls
			}
			if password {
				word, err := a.password()
				if err != nil {
					return err
				}
				d.Password = &word
			}
			if d == (contract.DatabaseChange{}) {
				return exitWith(ExitUsage, "nothing is to be changed; give --host, --port, --user, --tls or --password")
			}
			out, err := client.Do[contract.Database](api.API.ChangeDatabaseWithResponse(cmd.Context(), args[0], d))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				w.line("Database %s was reached, and is at %s:%d/%s as %s now.", out.Name, out.Host, out.Port, out.Database,
					out.User)
			})
		},
	}
	f := c.Flags()
	f.StringVar(&host, "host", "", "host name or address")
	f.IntVar(&port, "port", 0, "port")
	f.StringVar(&user, "user", "", "user to sign in as")
	f.StringVar(&tls, "tls", "", "encryption: disable, prefer, require or verify-full")
	f.BoolVar(&password, "password", false, "give the password: another one, or again for another address")
	return c
}

func (a *app) password() (string, error) {
	if p, ok := os.LookupEnv("DUSTYFERRY_DATABASE_PASSWORD"); ok {
		return p, nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", exitWith(ExitUsage, "no password is given; set DUSTYFERRY_DATABASE_PASSWORD")
	}
	fmt.Fprint(a.err, "Password: ")
	b, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(a.err)
	return string(b), err
}

func (a *app) databaseList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the registered databases", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			out, err := client.Do[[]contract.Database](api.API.ListDatabasesWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				if len(out) == 0 {
					w.line("No database is registered yet; 'dustyferry database add' does that.")
					return
				}
				w.row("NAME", "ENGINE", "ADDRESS", "USER", "TLS", "USED BY")
				for _, d := range out {
					w.row(d.Name, d.Engine, whereIs(&d), d.User, d.Tls, strings.Join(d.UsedBy,
						", "))
				}
			})
		},
	}
}

func (a *app) databaseShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a database and the tables it holds", Args: exactly("the database's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			d, err := client.Do[contract.Database](api.API.GetDatabaseWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			tables, err := client.Do[[]contract.CatalogTable](api.API.ListDatabaseTablesWithResponse(cmd.Context(), args[0],
				&contract.ListDatabaseTablesParams{}))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"database": d, "tables": tables}, func(w *table) {
				w.pairs("database", d.Name, "engine", d.Engine, "address", whereIs(&d),
					"user", d.User, "tls", d.Tls, "used by", strings.Join(d.UsedBy, ", "))
				w.line("")
				w.row("TABLE", right+"ROWS (ABOUT)", right+"SIZE", right+"COLUMNS", "KEY")
				for _, t := range tables {
					rows := "never counted"
					if t.Rows >= 0 {
						rows = num(t.Rows)
					}
					key := strings.Join(t.Key, ", ")
					if key == "" {
						key = "none"
					}
					w.row(t.Name, right+rows, right+size(t.Bytes), right+fmt.Sprint(t.Columns), key)
				}
			})
		},
	}
}

func (a *app) databaseCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check NAME", Short: "Check what a database can do as source and as target",
		Args: exactly("the database's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			f, err := client.Do[contract.Facts](api.API.CheckDatabaseWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(f, func(w *table) {
				w.pairs("server", f.Version, "encryption", f.Encrypted, "round trip", fmt.Sprintf("%.2f ms",
					f.RoundTripSeconds*1000), "signed in as", f.User, "can", strings.Join(f.Can, ", "))
				w.line("\nAs source")
				entries(w, f.AsSource)
				w.line("\nAs target")
				entries(w, f.AsTarget)
			})
		},
	}
}

// entries prints a survey, readiness list or check: blockers come first.
func entries(w *table, list []contract.Entry) {
	for _, v := range []contract.Verdict{contract.Blocker, contract.Notice, contract.Ok} {
		for _, e := range list {
			if e.Verdict != v {
				continue
			}
			mark := fmt.Sprintf("%-9s", "["+string(v)+"]")
			subject := e.Subject
			w.row(mark, subject, e.Topic, e.Measured)
			if e.Remedy != nil && *e.Remedy != "" {
				w.row("", "", "", map[bool]string{true: "try: ", false: "fix: "}[v == contract.Ok]+*e.Remedy)
			}
		}
	}
	w.flush()
}

func (a *app) databaseRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a database that no crossing uses", Args: exactly("the database's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if _, err := client.Do[struct{}](api.API.RemoveDatabaseWithResponse(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.show(map[string]string{"removed": args[0]}, func(w *table) {
				w.line("Database %s is no longer registered.", args[0])
			})
		},
	}
}

func (a *app) databaseTraces() *cobra.Command {
	var remove, confirm string
	var statements bool
	c := &cobra.Command{
		Use: "traces NAME", Short: "What crossings have left in a database, and removing it",
		Args: exactly("the database's NAME"),
		Long: `List what crossings have made in a database: replication slots, publications, triggers that
refuse writes, bookkeeping. Closing a crossing removes its own; what is left of one whose
records are lost is removed with --remove and the crossing's ID, or by hand with the
statements that --statements shows.`,
		Example: `  dustyferry database traces old
  dustyferry database traces old --remove 4f1c0a9b2d --confirm old`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if remove != "" {
				word, err := a.confirmed(confirm, args[0], "removing what crossing "+remove+" left in "+args[0])
				if err != nil {
					return err
				}
				if _, err := client.Do[struct{}](api.API.RemoveTracesWithResponse(cmd.Context(), args[0], remove,
					&contract.RemoveTracesParams{Confirm: &word})); err != nil {
					return err
				}
				return a.show(map[string]string{"removed": remove}, func(w *table) {
					w.line("What crossing %s had left in %s is removed.", remove, args[0])
				})
			}
			list, err := client.Do[[]contract.Trace](api.API.ListTracesWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(list, func(w *table) {
				if len(list) == 0 {
					w.line("No crossing has left anything in %s.", args[0])
					return
				}
				w.row("CROSSING", "ID", "STATE", "WHAT", "DETAIL")
				for _, t := range list {
					name, state := t.Crossing, t.State
					if name == "" {
						name, state = "unknown", "not in these records"
					}
					w.row(name, t.CrossingUid, state, t.Kind, t.Detail)
				}
				if statements {
					w.line("")
					for _, t := range list {
						w.line("%s;", t.Undo)
					}
				}
			})
		},
	}
	c.Flags().StringVar(&confirm, "confirm", "", "with --remove: the database's name once more, to say that you mean "+
		"it; asked for on a terminal")
	c.Flags().StringVar(&remove, "remove", "", "remove what the crossing with this ID has left")
	c.Flags().BoolVar(&statements, "statements", false, "show the statements that remove it by hand")
	return c
}
