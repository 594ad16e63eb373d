package cli

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
	"dustyferry/internal/localserver"
	"dustyferry/internal/service"
)

func (a *app) demoCmd() *cobra.Command {
	var rows, writers int
	var unattended bool
	var listen, source string
	c := &cobra.Command{
		Use: "demo", Short: "Try everything on Saltmarsh Apiaries, a made-up honey cooperative", Args: none,
		Long: `Starts a source and a target server, a control database and the service on this
machine, fills the source with the made-up Saltmarsh Apiaries, and keeps writing
to it like an application would. Then the crossing is yours to drive, from the
console or the command line. With --unattended it drives the whole journey by
itself and exits 0 only if the certificate shows zero findings.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if rows < 1 {
				return exitWith(ExitUsage, "--rows is %d; give a number of at least 1", rows)
			}
			if source != "postgres" && source != "mariadb" && source != sourceFile {
				return exitWith(ExitUsage, "--source is %q; choose postgres, mariadb or file", source)
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGHUP)
			defer stop()
			cmd.SetContext(ctx)
			d := &demoRun{app: a, out: cmd.OutOrStdout(), rows: rows, writers: writers, kind: source}
			defer d.stop()
			if source == sourceFile {
				return d.runFiles(cmd.Context(), listen, unattended)
			}
			if err := d.start(cmd.Context(), listen); err != nil {
				return err
			}
			if unattended {
				return d.drive(cmd.Context())
			}
			return d.hand(cmd.Context())
		},
	}
	c.Flags().IntVar(&rows, "rows", 500_000, "rows of the large table, scale_readings")
	c.Flags().StringVar(&source, "source", "postgres",
		"engine of the source: postgres or mariadb, or file: a SQLite file, a workbook and packed rows (the target is "+
			"PostgreSQL)")
	c.Flags().IntVar(&writers, "writers", 3, "writers of the application")
	c.Flags().BoolVar(&unattended, "unattended", false, "drive the whole journey without a person")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "address of the service")
	return c
}

type demoRun struct {
	*app
	out     io.Writer
	rows    int
	writers int
	kind    string // engine of the source

	dir          string
	target       *localserver.Postgres
	files        demo.Files
	house, moved demo.House // where the application lives, before and after
	svc          *service.Service
	shop         *demo.App
	hook         *http.Server
	hookURL      string
	token        string
	api          *client.Client
	ends         []func()
}

func (d *demoRun) say(format string, args ...any) {
	fmt.Fprintf(d.out, format+"\n", args...)
}

func (d *demoRun) stop() {
	for i := len(d.ends) - 1; i >= 0; i-- {
		d.ends[i]()
	}
}

func (d *demoRun) later(f func()) { d.ends = append(d.ends, f) }

// folder makes the demo's own.
func (d *demoRun) folder() (err error) {
	grouping = true // what it says is for people, wherever it goes
	if d.dir, err = os.MkdirTemp("", "dusty-ferry-demo-"); err != nil {
		return err
	}
	d.later(func() { _ = os.RemoveAll(d.dir) })
	return os.Chmod(d.dir, 0o711)
}

// serve starts a service, which opens files of the folders.
func (d *demoRun) serve(ctx context.Context, listen string, files ...string) error {
	log, err := os.Create(filepath.Join(d.dir, "service.log"))
	if err != nil {
		return err
	}
	d.later(func() { _ = log.Close() })
	d.svc, err = service.Start(ctx, service.Settings{Listen: listen, DataDir: filepath.Join(d.dir, "service"), Lanes: 4,
		Serve: true, AllowRoot: true, Version: version, Build: build(), Files: files,
		Log: slog.New(slog.NewTextHandler(log, nil)), FirstToken: func(t string) { d.token = t }})
	if err != nil {
		return err
	}
	d.later(d.svc.Stop)
	d.api, err = client.New(d.svc.URL(), d.token)
	return err
}

// left waits until a person ends the demo.
func (d *demoRun) left(ctx context.Context) error {
	select {
	case <-ctx.Done():
		d.say("\nThe demo ends.")
		return nil
	case err := <-d.svc.Failed():
		return err
	}
}

func (d *demoRun) start(ctx context.Context, listen string) error {
	if err := d.folder(); err != nil {
		return err
	}
	d.say("Starting a source (%s) and a target (PostgreSQL) server …", map[string]string{"postgres": "PostgreSQL",
		"mariadb": "MariaDB"}[d.kind])
	var err error
	if d.target, err = localserver.StartPostgres(ctx, localserver.Options{}); err != nil {
		return err
	}
	d.later(d.target.Stop)
	source, err := d.startSource(ctx)
	if err != nil {
		return err
	}
	if err := d.serve(ctx, listen); err != nil {
		return err
	}
	tls := contract.Disable
	target := contract.NewDatabase{Name: "new-barn", Engine: "postgres", Host: d.target.Host, Port: d.target.Port,
		Database: "postgres", User: d.target.User, Password: d.target.Password}
	for _, db := range []contract.NewDatabase{source, target} {
		db.Tls = &tls
		if _, err := client.Do[contract.Database](d.api.API.AddDatabaseWithResponse(ctx, db)); err != nil {
			return err
		}
	}
	d.shop = demo.StartApp(ctx, d.house, d.writers, 5*time.Millisecond)
	d.later(d.shop.Stop)
	return d.startHook()
}

// oldBarn is the name of the source.
const oldBarn = "old-barn"

// startSource starts and fills the source, and says how it is registered.
func (d *demoRun) startSource(ctx context.Context) (contract.NewDatabase, error) {
	filling := func() {
		d.say("Filling the source with Saltmarsh Apiaries: %s scale readings and eleven other tables …", num(int64(d.rows)))
	}
	out := contract.NewDatabase{Name: oldBarn}
	if d.kind == "mariadb" {
		m, err := localserver.StartMariaDB(ctx, localserver.Options{})
		if err != nil {
			return out, err
		}
		d.later(m.Stop)
		app := *m
		app.User, app.Password = "app", rand.Text()
		d.house, d.moved = demo.MariaDB(app.DSN("saltmarsh")), demo.Moved(d.target.URL("postgres"))
		out.Engine, out.Host, out.Port, out.User, out.Database = "mariadb", m.Host, m.Port, m.User, "saltmarsh"
		out.Password = m.Password
		filling()
		return out, demo.FillMariaDB(ctx, m.DSN(""), app.Password, d.rows)
	}
	p, err := localserver.StartPostgres(ctx, localserver.Options{})
	if err != nil {
		return out, err
	}
	d.later(p.Stop)
	d.house, d.moved = demo.Postgres(p.URL("postgres")), demo.Postgres(d.target.URL("postgres"))
	out.Engine, out.Host, out.Port, out.User, out.Database = "postgres", p.Host, p.Port, p.User, "postgres"
	out.Password = p.Password
	filling()
	return out, demo.Fill(ctx, p.URL("postgres"), d.rows)
}

// startHook is where the hand-over reaches the application: it goes over to the
// new server.
func (d *demoRun) startHook() error {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	d.hookURL = "http://" + ln.Addr().String() + "/moved"
	d.hook = &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		if r.Method != http.MethodPost {
			http.Error(w, "post the hand-over here", http.StatusMethodNotAllowed)
			return
		}
		var to struct {
			Target string `json:"target"`
		}
		if err := json.NewDecoder(r.Body).Decode(&to); err != nil {
			http.Error(w, "say the target's name", http.StatusBadRequest)
			return
		}
		d.shop.MoveTo(map[bool]demo.House{true: d.house, false: d.moved}[to.Target == oldBarn])
		w.WriteHeader(http.StatusNoContent)
	})}
	go func() { _ = d.hook.Serve(ln) }()
	d.later(func() { _ = d.hook.Close() })
	return nil
}

func (d *demoRun) create(ctx context.Context) error {
	tables := []string{"saltmarsh.*"}
	chunk := int64(8 << 20)
	stop := contract.Lock
	if d.kind == "mariadb" {
		stop = contract.ReadOnly
	}
	depth, guard := contract.SettingsCutoverDepthVouched, contract.SettingsGuardTargetRefuse
	back := contract.SettingsReturnPathOpen
	_, err := client.Do[contract.Crossing](d.api.API.AddCrossingWithResponse(ctx, contract.NewCrossing{Name: "spring",
		Source: oldBarn, Target: "new-barn",
		Tables: &tables, Settings: &contract.Settings{HandoverUrl: &d.hookURL, ChunkBytes: &chunk, StopMethod: &stop,
			CutoverDepth: &depth, GuardTarget: &guard, ReturnPath: &back}}))
	return err
}

// hand leaves the crossing to a person.
func (d *demoRun) hand(ctx context.Context) error {
	if err := d.create(ctx); err != nil {
		return err
	}
	d.say(`
Everything runs. The application is writing to the source all the time.

  Console         %s
  Access token    %s

Drive the crossing "spring" there, or from another terminal:

  export DUSTYFERRY_SERVICE=%s DUSTYFERRY_TOKEN=%s
  dustyferry survey spring
  dustyferry crossing start spring
  dustyferry watch spring
  dustyferry reconcile spring
  dustyferry cutover rehearse spring
  dustyferry cutover start spring --confirm spring
  dustyferry crossing show spring-back
  dustyferry cutover start spring-back --confirm spring-back
  dustyferry crossing close spring-forth --wait --confirm spring-forth
  dustyferry crossing close spring --wait --confirm spring
  dustyferry certificate spring

Ctrl-C ends the demo and removes everything it made.`, d.svc.URL(), d.token, d.svc.URL(), d.token)
	return d.left(ctx)
}

// drive goes through the whole journey by the public client, as a person would.
func (d *demoRun) drive(ctx context.Context) error {
	began := time.Now()
	stage := 0
	next := func(format string, args ...any) {
		stage++
		d.say("\n%d. %s", stage, fmt.Sprintf(format, args...))
	}
	next("The application writes to the source with %d writers. A crossing is created.", d.writers)
	if err := d.create(ctx); err != nil {
		return err
	}
	next("Survey: a look at both sides before anything moves.")
	list, err := client.Do[[]contract.Entry](d.api.API.SurveyCrossingWithResponse(ctx, "spring"))
	if err != nil {
		return err
	}
	count := map[contract.Verdict]int{}
	for _, e := range list {
		count[e.Verdict]++
		if e.Verdict != contract.Ok {
			d.say("   [%s] %s: %s", e.Verdict, e.Subject, e.Measured)
		}
	}
	d.say("   Blockers: %d, notices: %d, ok: %d.", count[contract.Blocker], count[contract.Notice], count[contract.Ok])
	next("Load and capture begin.")
	if _, err := client.Do[contract.Crossing](d.api.API.StartCrossingWithResponse(ctx, "spring",
		contract.StartCrossingJSONRequestBody{})); err != nil {
		return err
	}
	c, err := d.await(ctx, "spring", contract.PhaseInStep)
	if err != nil {
		return err
	}
	d.say("   Loaded %s rows (%s) in %d tables; %s live changes applied; lag %s.", num(c.Progress.Rows),
		size(c.Progress.Bytes), c.Progress.Tables, num(c.Progress.Changes), took(c.Progress.LagSeconds))
	next("Reconcile: both sides at one shared log position, both live.")
	if err := d.compare(ctx, "spring"); err != nil {
		return err
	}
	next("Rehearsal of the cutover.")
	if err := d.cutover(ctx, "spring", true); err != nil {
		return err
	}
	next("Cutover: writes stop, everything is drained and compared, the application moves.")
	if err := d.goOver(ctx, "spring"); err != nil {
		return err
	}
	next("Back: what was written to the new server is on the old one too. The application returns there.")
	if err := d.turn(ctx, "spring-back"); err != nil {
		return err
	}
	next("Forth again, and there the application stays.")
	if err := d.turn(ctx, "spring-forth"); err != nil {
		return err
	}
	next("One last comparison with the way back, and the application stops.")
	d.shop.Stop()
	if n, why := d.shop.Failed(); n > 0 {
		return fmt.Errorf("%d transactions of the application failed: %s", n, why)
	}
	if _, err := d.await(ctx, "spring-back-2", contract.PhaseInStep); err != nil {
		return err
	}
	if err := d.compare(ctx, "spring-back-2"); err != nil {
		return err
	}
	next("Close: what was left on both servers is removed, the certificate is written.")
	for _, name := range []string{"spring-back-2", "spring-forth", "spring-back", "spring"} {
		if _, err := client.Do[contract.Crossing](d.api.API.CloseCrossingWithResponse(ctx, name,
			contract.CloseCrossingJSONRequestBody{Confirm: &name})); err != nil {
			return err
		}
		if err := awaitTask(ctx, d.api, name, "close"); err != nil {
			return err
		}
	}
	return d.certify(ctx, began)
}

// turn goes over the return path of the cutover before.
func (d *demoRun) turn(ctx context.Context, name string) error {
	c, err := d.await(ctx, name, contract.PhaseInStep)
	if err != nil {
		return err
	}
	d.say("   %s brings what is written to %s to %s: %s changes so far, lag %s.", name, c.Source, c.Target,
		num(c.Progress.Changes), took(c.Progress.LagSeconds))
	if err := d.compare(ctx, name); err != nil {
		return err
	}
	return d.goOver(ctx, name)
}

// goOver cuts over and sees the application write on the other side.
func (d *demoRun) goOver(ctx context.Context, name string) error {
	if err := d.cutover(ctx, name, false); err != nil {
		return err
	}
	c, err := client.Do[contract.Crossing](d.api.API.GetCrossingWithResponse(ctx, name))
	if err != nil {
		return err
	}
	before := d.shop.Written()
	if err := pause(ctx, time.Second); err != nil {
		return err
	}
	if d.shop.Written() == before {
		return fmt.Errorf("the application does not write to %s", c.Target)
	}
	d.say("   The application writes to %s now; its longest wait so far was %s.", c.Target,
		took(d.shop.Longest().Seconds()))
	return nil
}

// compare compares both sides by hashes, which must find nothing.
func (d *demoRun) compare(ctx context.Context, name string) error {
	r, err := client.Do[contract.Reconciliation](d.api.API.ReconcileWithResponse(ctx, name,
		contract.NewReconciliation{Depth: contract.NewReconciliationDepthHashes}))
	if err != nil {
		return err
	}
	p := d.progress()
	r, err = awaitReconciliation(ctx, d.api, name, r.Id, p)
	p.end()
	if err != nil {
		return err
	}
	d.say("   %s rows on the source, %s on the target%s: %s, %d findings.", num(r.SourceRows), num(r.TargetRows),
		atPosition(r.Position), r.State, r.Findings)
	if r.State != "clean" {
		limit := 10
		if page, err := client.Do[contract.FindingPage](d.api.API.ListFindingsWithResponse(ctx, name, r.Id,
			&contract.ListFindingsParams{Limit: &limit})); err == nil {
			var w table
			showFindings(&w, name, r, page, 0)
			d.say("%s", w.String())
		}
		return exitWith(ExitFindings, "the comparison was not clean: %s %s", r.State, r.Error)
	}
	return nil
}

func (d *demoRun) cutover(ctx context.Context, name string, rehearsal bool) error {
	k, err := client.Do[contract.Cutover](d.api.API.CutoverWithResponse(ctx, name,
		contract.NewCutover{Rehearsal: rehearsal, Confirm: &name}))
	if err != nil {
		return err
	}
	p := d.progress()
	k, err = awaitCutover(ctx, d.api, name, k.Id, p)
	p.end()
	if err != nil {
		return err
	}
	for _, s := range k.Steps {
		d.say("   %-20s %-8s %8s  %s", s.Name, s.State, took(deref(s.Seconds)), s.Note)
	}
	if k.State != "done" {
		return exitWith(ExitUndone, "it was undone: %s", k.Error)
	}
	d.say("   Writes were paused for %s.", took(deref(k.WritePauseSeconds)))
	_, err = d.await(ctx, name, contract.PhaseInStep, contract.PhaseCutOver)
	return err
}

// await follows the crossing, printing when something moved.
func (d *demoRun) await(ctx context.Context, name string, want ...contract.Phase) (contract.Crossing, error) {
	said := time.Time{}
	for {
		c, err := client.Do[contract.Crossing](d.api.API.GetCrossingWithResponse(ctx, name))
		if err != nil {
			return c, err
		}
		for _, w := range want {
			if c.Phase == w {
				return c, nil
			}
		}
		if c.Condition == contract.ConditionHeld {
			return c, exitWith(ExitHeld, "the crossing waits for a person: %s", c.Reason)
		}
		if time.Since(said) > 2*time.Second && c.Progress.Chunks > 0 {
			d.say("   %s", plainLine(c))
			said = time.Now()
		}
		if err := pause(ctx, 200*time.Millisecond); err != nil {
			return c, err
		}
	}
}

func (d *demoRun) certify(ctx context.Context, began time.Time) error {
	cert, err := client.Do[map[string]any](d.api.API.GetCertificateWithResponse(ctx, "spring",
		&contract.GetCertificateParams{}))
	if err != nil {
		return err
	}
	format := "text"
	text, err := client.Do[string](d.api.API.GetCertificateWithResponse(ctx, "spring", &contract.GetCertificateParams{
		Format: &format}))
	if err != nil {
		return err
	}
	d.say("\n%s", strings.TrimRight(text, "\n"))
	if found, ok := cert["findings"].(float64); !ok || found != 0 {
		return exitWith(ExitFindings, "the certificate shows %v findings", cert["findings"])
	}
	d.say("\nDone in %s: the cooperative's database has moved, no row was lost, zero findings.",
		took(time.Since(began).Seconds()))
	return nil
}
