package cli

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) scheduleCmd() *cobra.Command {
	c := &cobra.Command{Use: "schedule", Short: "Let a crossing start at a time, or load anew again and again"}
	c.AddCommand(a.scheduleSet(), a.scheduleShow(), a.schedulePause(), a.scheduleResume(), a.scheduleRemove())
	return c
}

func (a *app) scheduleSet() *cobra.Command {
	var at, cron, zone, missed, confirm string
	c := &cobra.Command{
		Use: "set NAME", Short: "Set a crossing's schedule", Args: exactly("the crossing's NAME"),
		Long: `Let a crossing start once at a time (--at), or, if it does not follow changes, load anew by a cron
expression (--cron): each run empties the target's tables and loads them again. Of tables
whose rules name a watermark it reads only the rows past it, in place of those with the same
keys ('dustyferry crossing refresh' does so at once). A run is
skipped while the one before has not ended. What was due while no service ran is made up
for by one run, or skipped (--missed).`,
		Example: `  dustyferry schedule set spring --at '2026-12-01 02:00' --zone Europe/Amsterdam
  dustyferry schedule set nightly --cron '0 2 * * 1-5' --zone Europe/Amsterdam --confirm new`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			body := contract.NewSchedule{Missed: (*contract.NewScheduleMissed)(&missed)}
			if confirm != "" {
				body.Confirm = &confirm
			}
			switch {
			case at != "":
				moment, err := readTime(at, zone)
				if err != nil {
					return err
				}
				body.At = &moment
			default:
				body.Cron, body.Zone = &cron, &zone
			}
			out, err := client.Do[contract.Schedule](api.API.PutScheduleWithResponse(cmd.Context(), args[0], body))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) { w.line("Crossing %s starts at %s.", args[0], stampText(out.NextAt)) })
		},
	}
	f := c.Flags()
	f.StringVar(&at, "at", "", "start once, such as '2026-12-01 02:00' in --zone, or with an offset as in RFC 3339")
	f.StringVar(&cron, "cron", "", "repeat: minute, hour, day of month, month, day of week")
	f.StringVar(&zone, "zone", "", "time zone of --at and --cron, such as Europe/Amsterdam (default UTC)")
	f.StringVar(&missed, "missed", "run once", "what was due while no service ran: 'run once' or skip")
	f.StringVar(&confirm, "confirm", "", "the target's name, where rows on it may be removed")
	return c
}

// readTime reads a time as people write it.
func readTime(text, zone string) (time.Time, error) {
	where, err := time.LoadLocation(zone)
	if err != nil {
		return time.Time{}, exitWith(ExitUsage, "--zone: %q is no time zone; give an IANA name such as Europe/Amsterdam",
			zone)
	}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04", "2006-01-02T15:04", time.DateTime} {
		if t, err := time.ParseInLocation(form, text, where); err == nil {
			return t, nil
		}
	}
	return time.Time{}, exitWith(ExitUsage, "--at: %q is no time; write it like '2026-12-01 02:00'", text)
}

func (a *app) scheduleShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show when a crossing starts by itself", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			out, err := client.Do[contract.Schedule](api.API.GetScheduleWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				if out.Cron == "" && out.At == nil {
					w.line("Crossing %s has no schedule; 'dustyferry schedule set' gives it one.", args[0])
					return
				}
				how := "once, at " + stampText(out.At)
				if out.Cron != "" {
					zone := out.Zone
					if zone == "" {
						zone = "UTC"
					}
					how = fmt.Sprintf("%s in %s", out.Cron, zone)
				}
				next := "nothing more"
				if out.NextAt != nil {
					next = stampText(out.NextAt)
				}
				if out.PausedBy != nil {
					next += ", which is skipped: it is paused by " + *out.PausedBy
				}
				w.pairs("When", how, "Next", next, "What was missed", out.Missed, "Set by", out.Actor)
			})
		},
	}
}

func (a *app) schedulePause() *cobra.Command {
	return &cobra.Command{
		Use: "pause NAME", Short: "Keep a crossing's schedule from starting anything", Args: exactly("the crossing's NAME"),
		Long: `Keep a crossing's schedule from starting anything until it is resumed. Each time that was due
meanwhile is kept among its runs, as skipped. What is under way goes on: 'dustyferry crossing
pause' stops that.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			out, err := client.Do[contract.Schedule](api.API.PauseScheduleWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				w.line("The schedule of %s is paused. To let it go on: dustyferry schedule resume %s", args[0], args[0])
			})
		},
	}
}

func (a *app) scheduleResume() *cobra.Command {
	return &cobra.Command{
		Use: "resume NAME", Short: "Let a paused schedule go on", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			out, err := client.Do[contract.Schedule](api.API.ResumeScheduleWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				w.line("The schedule of %s goes on; next at %s.", args[0], stampText(out.NextAt))
			})
		},
	}
}

func (a *app) scheduleRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a crossing's schedule", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if _, err := client.Do[struct{}](api.API.RemoveScheduleWithResponse(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.show(struct{}{}, func(w *table) { w.line("Crossing %s starts by a person's hand alone again.", args[0]) })
		},
	}
}

func (a *app) runsCmd() *cobra.Command {
	return &cobra.Command{
		Use: "runs NAME", Short: "Show every time that a crossing's load ran, each beside the one before",
		Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			out, err := client.Do[[]contract.Run](api.API.ListRunsWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				if len(out) == 0 {
					w.line("Crossing %s has not run yet.", args[0])
					return
				}
				w.row("STARTED", "BY", "STATE", "TOOK", "ROWS", "CHANGE", "SIZE", "SPEED", "REJECTED", "NOTE")
				for i, r := range out {
					if r.EndedAt == nil || r.State != contract.RunStateDone {
						note := r.Note
						if r.Times != nil {
							note = fmt.Sprintf("%s (%d times in a row, last at %s)", note, *r.Times, stampText(r.DueAt))
						}
						w.row(stampText(&r.StartedAt), r.By, string(r.State), "", "", "", "", "", "", note)
						continue
					}
					s := r.EndedAt.Sub(r.StartedAt).Seconds()
					w.row(stampText(&r.StartedAt), r.By, string(r.State), took(s), num(r.Rows), rowsChange(out[i+1:], r),
						size(r.Bytes),
						num(int64(float64(r.Rows)/max(s, 0.001)))+" rows/s", num(r.Rejected), r.Note)
				}
			})
		},
	}
}

// rowsChange is how many more rows a run brought than the one before that ended well.
func rowsChange(older []contract.Run, r contract.Run) string {
	for _, o := range older {
		if o.State == contract.RunStateDone {
			d := r.Rows - o.Rows
			if d > 0 {
				return "+" + num(d)
			}
			return num(d)
		}
	}
	return ""
}

func (a *app) webhookCmd() *cobra.Command {
	c := &cobra.Command{Use: "webhook", Aliases: []string{"webhooks"}, Short: "Tell other systems of what happens"}
	c.AddCommand(a.webhookAdd(), a.webhookList(), a.webhookTest(), a.webhookLog(), a.webhookRemove())
	return c
}

func (a *app) webhookAdd() *cobra.Command {
	w := contract.NewWebhook{}
	var events []string
	c := &cobra.Command{
		Use: "add NAME", Short: "Add an address to be told (admin)", Args: exactly("a NAME for it"),
		Long: `Add an address that is sent a small JSON document by POST when something happens:
loaded, in step, held, failed, lag, log, differs, cut over, undone. The secret is read from
DUSTYFERRY_WEBHOOK_SECRET; after whsec_ it is base64. Each message carries the headers
webhook-id (the same at every try), webhook-timestamp and webhook-signature: "v1," and the
base64 of the HMAC-SHA-256, by the secret, of id, timestamp and body with full stops between
them. What is not answered with 2xx is sent again, for about a day.`,
		Example: `  DUSTYFERRY_WEBHOOK_SECRET=… dustyferry webhook add pager --url https://127.0.0.1:8443/dusty --event held,failed,lag`,
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			w.Name, w.Secret = args[0], os.Getenv("DUSTYFERRY_WEBHOOK_SECRET")
			if w.Secret == "" {
				return exitWith(ExitUsage, "no secret is given; set DUSTYFERRY_WEBHOOK_SECRET to at least 16 characters that the "+
					"receiver knows too")
			}
			list := []contract.Event{}
			for _, e := range events {
				list = append(list, contract.Event(e))
			}
			w.Events = &list
			out, err := client.Do[contract.Webhook](api.API.AddWebhookWithResponse(cmd.Context(), w))
			if err != nil {
				return err
			}
			return a.show(out, func(t *table) {
				t.line("Webhook %s is told from now on; 'dustyferry webhook test %s' tries it.", out.Name, out.Name)
			})
		},
	}
	var crossings string
	c.Flags().StringVar(&w.Url, "url", "", "address to be called")
	c.Flags().StringSliceVar(&events, "event", nil, "which events (default: all)")
	c.Flags().StringVar(&crossings, "crossings", "*", "of which crossings, by name with *")
	w.Crossings = &crossings
	return c
}

func (a *app) webhookList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the addresses that are told", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			out, err := client.Do[[]contract.Webhook](api.API.ListWebhooksWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				if len(out) == 0 {
					w.line("No webhook is set; 'dustyferry webhook add' does that.")
					return
				}
				w.row("NAME", "ADDRESS", "EVENTS", "CROSSINGS")
				for _, h := range out {
					var events []string
					for _, e := range h.Events {
						events = append(events, string(e))
					}
					text := strings.Join(events, ", ")
					if text == "" {
						text = "all"
					}
					w.row(h.Name, h.Url, text, h.Crossings)
				}
			})
		},
	}
}

func (a *app) webhookTest() *cobra.Command {
	return &cobra.Command{
		Use: "test NAME", Short: "Send something to try a webhook", Args: exactly("the webhook's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if _, err := client.Do[struct{}](api.API.TestWebhookWithResponse(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.show(struct{}{}, func(w *table) {
				w.line("A message is on its way; 'dustyferry webhook log %s' shows what comes of it.", args[0])
			})
		},
	}
}

func (a *app) webhookLog() *cobra.Command {
	return &cobra.Command{
		Use: "log NAME", Short: "Show what was sent to a webhook, and what it answered", Args: exactly("the webhook's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			out, err := client.Do[[]contract.Delivery](api.API.ListDeliveriesWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				if len(out) == 0 {
					w.line("Nothing was sent to %s yet.", args[0])
					return
				}
				w.row("AT", "EVENT", "STATE", "TRIES", "ANSWER")
				for _, d := range out {
					state := "given up"
					switch {
					case d.DoneAt != nil:
						state = "arrived"
					case d.NextAt != nil && d.Attempts == 0:
						state = "on its way"
					case d.NextAt != nil:
						state = "again at " + stampText(d.NextAt)
					}
					w.row(stampText(&d.CreatedAt), d.Event, state, num(int64(d.Attempts)), d.Answer)
				}
			})
		},
	}
}

func (a *app) webhookRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Tell an address no more (admin)", Args: exactly("the webhook's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if _, err := client.Do[struct{}](api.API.RemoveWebhookWithResponse(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.show(struct{}{}, func(w *table) { w.line("Webhook %s is told no more.", args[0]) })
		},
	}
}
