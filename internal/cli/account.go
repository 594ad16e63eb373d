package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) certificateCmd() *cobra.Command {
	return &cobra.Command{
		Use: "certificate NAME", Short: "Show the account of a closed crossing", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			cert, err := client.Do[map[string]any](api.API.GetCertificateWithResponse(cmd.Context(), args[0],
				&contract.GetCertificateParams{}))
			if err != nil {
				return err
			}
			format := "text"
			text, err := client.Do[string](api.API.GetCertificateWithResponse(cmd.Context(), args[0],
				&contract.GetCertificateParams{Format: &format}))
			if err != nil {
				return err
			}
			return a.show(cert, func(w *table) { w.line("%s", strings.TrimRight(text, "\n")) })
		},
	}
}

func (a *app) journalCmd() *cobra.Command {
	var crossing, severity, subject, search string
	var limit int
	var details bool
	c := &cobra.Command{
		Use: "journal", Short: "Show who did what when", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			p := &contract.ListJournalParams{Limit: &limit}
			for _, f := range []struct {
				value *string
				to    **string
			}{{&crossing, &p.Crossing}, {&subject, &p.Subject}, {&search, &p.Search}} {
				if *f.value != "" {
					*f.to = f.value
				}
			}
			if severity != "" {
				p.Severity = (*contract.Severity)(&severity)
			}
			list, err := client.Do[[]contract.JournalEntry](api.API.ListJournalWithResponse(cmd.Context(), p))
			if err != nil {
				return err
			}
			slices.Reverse(list)
			return a.show(list, func(w *table) {
				for _, e := range list {
					mark := map[contract.Severity]string{"info": "", "warning": "warning", "error": "ERROR"}[e.Severity]
					w.row(stampText(&e.At), e.Crossing, e.Actor, mark, e.Message)
					if details && e.Detail != nil {
						w.flush()
						w.line("    %s", strings.ReplaceAll(*e.Detail, "\n", "\n    "))
					}
				}
			})
		},
	}
	c.Flags().StringVar(&crossing, "crossing", "", "only of this crossing")
	c.Flags().StringVar(&subject, "about", "", "only about this table, database or token")
	c.Flags().StringVar(&severity, "severity", "", "only this or worse: warning or error")
	c.Flags().StringVar(&search, "search", "", "only with this in the text")
	c.Flags().BoolVar(&details, "details", false, "with what was run or set, word for word")
	c.Flags().IntVar(&limit, "last", 50, "how many of the newest entries")
	return c
}

func (a *app) tokenCmd() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Make, list and revoke access tokens (admins)"}
	var role string
	var seeRows bool
	add := &cobra.Command{
		Use: "add NAME", Short: "Make a token; it is shown this once", Args: exactly("the token's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			body := contract.NewToken{Name: args[0], Role: contract.Role(role)}
			if cmd.Flags().Changed("see-rows") {
				body.SeeRows = &seeRows
			}
			t, err := client.Do[contract.Token](api.API.AddTokenWithResponse(cmd.Context(), body))
			if err != nil {
				return err
			}
			return a.show(t, func(w *table) {
				w.pairs("name", t.Name, "role", string(t.Role), "sees rows", yesNo(t.SeeRows), "token", deref(t.Token))
				w.line("Keep it: it is not shown again.")
			})
		},
	}
	add.Flags().StringVar(&role, "role", "viewer", "viewer, operator or admin")
	add.Flags().BoolVar(&seeRows, "see-rows", false,
		"whether it may see rows of the databases (default: operators and admins yes, viewers no)")
	list := &cobra.Command{
		Use: "list", Short: "List tokens without their secrets", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			all, err := client.Do[[]contract.Token](api.API.ListTokensWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.show(all, func(w *table) {
				w.row("NAME", "ROLE", "SEES ROWS", "CREATED", "LAST USED")
				for _, t := range all {
					w.row(t.Name, string(t.Role), yesNo(t.SeeRows), stampText(&t.CreatedAt), stampText(t.UsedAt))
				}
			})
		},
	}
	revoke := &cobra.Command{
		Use: "revoke NAME", Short: "Revoke a token and end its sessions", Args: exactly("the token's NAME"),
	}
	confirm := confirmFlag(revoke, "the token's name")
	revoke.RunE = func(cmd *cobra.Command, args []string) error {
		word, err := a.confirmed(*confirm, args[0], "revoking the token "+args[0])
		if err != nil {
			return err
		}
		api, err := a.client()
		if err != nil {
			return err
		}
		if _, err := client.Do[struct{}](api.API.RemoveTokenWithResponse(cmd.Context(), args[0],
			&contract.RemoveTokenParams{Confirm: &word})); err != nil {
			return err
		}
		return a.show(map[string]string{"revoked": args[0]}, func(w *table) { w.line("Token %s is revoked.", args[0]) })
	}
	c.AddCommand(add, list, revoke)
	return c
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (a *app) workersCmd() *cobra.Command {
	return &cobra.Command{
		Use: "workers", Short: "List the processes that share the work", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			out, err := client.Do[[]contract.Worker](api.API.ListWorkersWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.show(out, func(w *table) {
				w.row("WORKER", "STATE", "LANES", "CAPTURES", "LABELS", "MACHINE", "VERSION")
				for _, k := range out {
					state := "at work"
					if silent := time.Since(k.SeenAt); silent > 10*time.Second {
						state = "silent for " + took(silent.Seconds())
					}
					w.row(k.Name, state, num(int64(k.Lanes)), num(int64(k.Streams)), strings.Join(k.Labels, ", "),
						fmt.Sprintf("%s, process %d", k.Host, k.Pid), k.Version)
				}
			})
		},
	}
}
