package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/core/signed"
	"dustyferry/internal/domain"
)

func (a *app) certificateCmd() *cobra.Command {
	c := &cobra.Command{
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
	c.AddCommand(a.certificateVerify(), a.certificateKey())
	return c
}

func (a *app) certificateKey() *cobra.Command {
	return &cobra.Command{
		Use: "key", Short: "Show the name of the key with which the service signs certificates", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			about, err := client.Do[contract.About](api.API.GetAboutWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.show(map[string]string{"key": about.SigningKey}, func(w *table) { w.line("%s", about.SigningKey) })
		},
	}
}

func (a *app) certificateVerify() *cobra.Command {
	var key string
	c := &cobra.Command{
		Use: "verify FILE", Short: "Prove, without a service, that a certificate is as it was written",
		Example: "  dustyferry certificate spring > spring.txt\n  dustyferry certificate verify spring.txt",
		Args:    exactly("the FILE, as text or JSON"),
		RunE: func(_ *cobra.Command, args []string) error {
			file, err := os.ReadFile(args[0])
			if err != nil {
				return domain.Invalid("%s cannot be read: %s", args[0], err)
			}
			name, err := signed.Verify(file)
			if err != nil {
				return exitWith(ExitFindings, "%s: %s", args[0], err)
			}
			if key != "" && key != name {
				return exitWith(ExitFindings, "%s is whole, but was signed with the key %s, not with %s", args[0], name, key)
			}
			return a.show(map[string]any{"whole": true, "key": name}, func(w *table) {
				w.line("%s is as it was written, and signed with the key %s.", args[0], name)
				if key == "" {
					w.line("Whose key that is, the service that wrote it says: dustyferry certificate key")
				}
			})
		},
	}
	c.Flags().StringVar(&key, "key", "", "the key that it must be signed with, as the service that wrote it says")
	return c
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
	c.AddCommand(a.journalVerify())
	return c
}

func (a *app) journalVerify() *cobra.Command {
	return &cobra.Command{
		Use: "verify", Short: "Prove that the journal is as it was written, and no entry is gone", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			r, err := client.Do[contract.JournalProof](api.API.VerifyJournalWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			err = a.show(r, func(w *table) {
				w.pairs("entries", num(r.Entries)+", each fits behind the one before", "from", num(r.First),
					"to", num(r.Last), "code", r.Code)
				if r.Unbound > 0 {
					w.line("What is from before entries were tied together, or before the key was replaced, cannot be proved: "+
						"%s older ones.", num(r.Unbound))
				}
			})
			if err == nil && !r.Whole {
				return exitWith(ExitFindings, "the journal is not as it was written: entry %d: %s", r.Broken, r.Why)
			}
			return err
		},
	}
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
	add.Flags().StringVar(&role, "role", "viewer", "viewer, operator, admin, or gateway (good for a gateway alone)")
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
