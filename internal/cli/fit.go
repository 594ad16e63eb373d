package cli

import (
	"errors"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
)

func (a *app) fitCmd() *cobra.Command {
	var share, speed string
	var extremes bool
	var tables []string
	c := &cobra.Command{
		Use: "fit NAME", Short: "Look for values that their new columns cannot hold; changes nothing",
		Args: exactly("the crossing's NAME"),
		Long: `Reads the source's rows and tries every value against its planned column: texts
that are too long, numbers out of range, dates that do not exist on the other
side, bytes that are no text. Shows rows, and the plan that would hold them. It
runs in the service; Ctrl-C only stops watching. Exits with 3 when a value would
stop the load.`,
		Example: `  dustyferry fit spring
  dustyferry fit spring --share 5% --speed-limit 20MB
  dustyferry fit spring --extremes --table 'shop.orders*'`,
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		ctx, name := cmd.Context(), args[0]
		api, err := a.client()
		if err != nil {
			return err
		}
		body := contract.NewFitCheck{Extremes: &extremes, Tables: someOf(tables)}
		number, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(share, "%")), 64)
		if err != nil || number <= 0 || number > 100 {
			return exitWith(ExitUsage, "--share is %q; give a percentage such as 5%%", share)
		}
		number /= 100
		body.Share = &number
		size, err := domain.ParseSize(speed)
		if err != nil {
			return exitWith(ExitUsage, "--speed-limit: %w", err)
		}
		limit := int64(size)
		body.SpeedLimit = &limit
		if _, err := client.Do[contract.Crossing](api.API.CheckFitWithResponse(ctx, name, body)); err != nil {
			return err
		}
		p := a.progress()
		err = followTask(ctx, api, name, "fit check", func(note string) { p.say(-1, "%s …", note) })
		p.end()
		if err != nil {
			return err
		}
		f, err := client.Do[contract.FitCheck](api.API.GetFitCheckWithResponse(ctx, name))
		if err != nil {
			return err
		}
		if f.Error != nil || f.StartedAt == nil || f.EndedAt == nil {
			return errors.New("the fit check did not come to its end: " + deref(f.Error))
		}
		if err := a.show(f, func(w *table) {
			entries(w, f.Entries)
			w.line("\n%s of %s were looked at in %s.", counted(f.Rows, "row"), counted(int64(f.Tables), "table"),
				took(f.EndedAt.Sub(*f.StartedAt).Seconds()))
			lost := slices.ContainsFunc(f.Entries, func(e contract.Entry) bool { return e.Verdict != contract.Ok })
			switch {
			case f.Misfits == 0 && lost:
				w.line("No value would stop the load, but some are lost.")
			case f.Misfits == 0:
				w.line("Every value fits its column.")
			}
		}); err != nil {
			return err
		}
		if f.Misfits > 0 {
			return exitWith(ExitFindings, "%s would stop the load", counted(f.Misfits, "value"))
		}
		return nil
	}
	c.Flags().StringVar(&share, "share", "100%", "how much of each table to read")
	c.Flags().BoolVar(&extremes, "extremes", false,
		"only the least, greatest and longest value of each column, found by the source")
	c.Flags().StringVar(&speed, "speed-limit", "0", "bytes per second to read, such as 20MB; 0 for none")
	c.Flags().StringArrayVar(&tables, "table", nil, "only tables that match this pattern; repeatable")
	return c
}
