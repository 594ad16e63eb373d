package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
	"dustyferry/internal/localserver"
)

// sourceFile is the source of a demo that begins with files.
const sourceFile = "file"

// startFiles makes the files, and starts a target and a service that opens them.
func (d *demoRun) startFiles(ctx context.Context, listen string) error {
	if err := d.folder(); err != nil {
		return err
	}
	folder := filepath.Join(d.dir, "files")
	if err := os.Mkdir(folder, 0o700); err != nil {
		return err
	}
	d.say("Writing Saltmarsh Apiaries into files: a SQLite file, a workbook of market stalls, and a folder with %s scale "+
		"readings as packed rows …", num(int64(d.rows)))
	var err error
	if d.files, err = demo.FillFiles(ctx, folder, d.rows); err != nil {
		return err
	}
	d.say("Starting a target (PostgreSQL) server …")
	if d.target, err = localserver.StartPostgres(ctx, localserver.Options{}); err != nil {
		return err
	}
	d.later(d.target.Stop)
	if err := d.serve(ctx, listen, folder); err != nil {
		return err
	}
	tls := contract.Disable
	for _, db := range []contract.NewDatabase{
		{Name: "books", Engine: "file", Database: d.files.Books},
		{Name: "stalls", Engine: "file", Database: d.files.Stalls},
		{Name: "readings", Engine: "file", Database: d.files.Readings},
		{Name: "new-barn", Engine: "postgres", Host: d.target.Host, Port: d.target.Port, Database: "postgres",
			User: d.target.User, Password: d.target.Password, Tls: &tls},
	} {
		out, err := client.Do[contract.Database](d.api.API.AddDatabaseWithResponse(ctx, db))
		if err != nil {
			return err
		}
		d.say("   %s is a database of the engine %s (%s).", out.Name, out.Engine, whereIs(&out))
	}
	return nil
}

// handFiles leaves the files to a person.
func (d *demoRun) handFiles(ctx context.Context) error {
	d.say(`
Everything runs. Nothing has been copied yet.

  Console         %s
  Access token    %s

From another terminal:

  export DUSTYFERRY_SERVICE=%s DUSTYFERRY_TOKEN=%s
  dustyferry database check books
  dustyferry crossing create books --source books --target new-barn --follow-changes=false
  dustyferry fit books
  dustyferry crossing start books --wait
  dustyferry reconcile books

Ctrl-C ends the demo and removes everything it made.`, d.svc.URL(), d.token, d.svc.URL(), d.token)
	return d.left(ctx)
}

// driveFiles brings each file over, and compares it with what came of it.
func (d *demoRun) driveFiles(ctx context.Context) error {
	began := time.Now()
	no := false
	names := []string{"books", "stalls", "readings"}
	for i, name := range names {
		d.say("\n%d. %s: planned by what is in it.", i+1, name)
		if _, err := client.Do[contract.Crossing](d.api.API.AddCrossingWithResponse(ctx, contract.NewCrossing{Name: name,
			Source: name, Target: "new-barn", FollowChanges: &no})); err != nil {
			return err
		}
		list, err := client.Do[[]contract.Entry](d.api.API.SurveyCrossingWithResponse(ctx, name))
		if err != nil {
			return err
		}
		for _, e := range list {
			if e.Verdict != contract.Ok || e.Topic == "file" {
				d.say("   [%s] %s: %s", e.Verdict, e.Subject, e.Measured)
			}
		}
		if _, err := client.Do[contract.Crossing](d.api.API.StartCrossingWithResponse(ctx, name,
			contract.StartCrossingJSONRequestBody{})); err != nil {
			return err
		}
		c, err := d.await(ctx, name, contract.PhaseInStep)
		if err != nil {
			return err
		}
		d.say("   Loaded %s rows (%s) in %d tables.", num(c.Progress.Rows), size(c.Progress.Bytes), c.Progress.Tables)
		if err := d.compare(ctx, name); err != nil {
			return err
		}
	}
	d.say("\n4. Close: what was left on the target is removed, the certificates are written.")
	for _, name := range names {
		if _, err := client.Do[contract.Crossing](d.api.API.CloseCrossingWithResponse(ctx, name,
			contract.CloseCrossingJSONRequestBody{Confirm: &name})); err != nil {
			return err
		}
		if err := awaitTask(ctx, d.api, name, "close"); err != nil {
			return err
		}
		format := "text"
		text, err := client.Do[string](d.api.API.GetCertificateWithResponse(ctx, name,
			&contract.GetCertificateParams{Format: &format}))
		if err != nil {
			return err
		}
		d.say("\n%s", text)
	}
	d.say("The files are in PostgreSQL, row for row, after %s.", time.Since(began).Round(100*time.Millisecond))
	return nil
}

// runFiles is the demo that begins with files.
func (d *demoRun) runFiles(ctx context.Context, listen string, unattended bool) error {
	if err := d.startFiles(ctx, listen); err != nil {
		return fmt.Errorf("the demo of files: %w", err)
	}
	if unattended {
		return d.driveFiles(ctx)
	}
	return d.handFiles(ctx)
}
