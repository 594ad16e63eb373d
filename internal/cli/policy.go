package cli

import (
	"os"
	"strings"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/manifest"
)

func (a *app) policy() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "policy", Short: "Show or replace the policy, which holds for all crossings", Args: none,
		Long: `Without --file it shows the policy. With it, an admin replaces it. The file:

  tables: ["shop.*"]                # patterns that new crossings begin with
  rules:                            # for every new crossing, before its own
    - {tables: "*.*", schema: honey}
  checks: [fit check, comparison, rehearsal]   # must be done: the first before the start,
                                    # the others before a cutover
  locked: [lanes, speed_limit, pause_budget, tables, rules]   # crossings cannot change these;
                                    # locked rules stand behind a crossing's own and win
  journal_days: 1100                # how long the journal is kept; without it, for ever
  history_days: 400                 # runs, tasks, comparisons with findings, and cutovers

The settings that new crossings begin with are on the console's settings page.`,
	}
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		var h contract.Policy
		if file == "" {
			h, err = client.Do[contract.Policy](api.API.GetPolicyWithResponse(cmd.Context()))
		} else {
			h, err = a.setPolicy(cmd, api, file)
		}
		if err != nil {
			return err
		}
		return a.show(h, func(w *table) {
			list := func(names []string, none string) string {
				if len(names) == 0 {
					return none
				}
				return strings.Join(names, ", ")
			}
			var checks []string
			for _, k := range deref(h.Checks) {
				checks = append(checks, string(k))
			}
			w.pairs("New crossings begin with", list(deref(h.Tables), "every table"), "Checks that must be done",
				list(checks, "none"), "Locked", list(deref(h.Locked), "nothing"),
				"The journal is kept", keptFor(h.JournalDays), "Runs, tasks, comparisons and cutovers are kept",
				keptFor(h.HistoryDays))
			if rules := deref(h.Rules); len(rules) > 0 {
				w.line("")
				ruleRows(w, rules)
			}
		})
	}
	c.Flags().StringVarP(&file, "file", "f", "", "file with the policy that takes the place of the one there is "+
		"(needs the admin role)")
	return c
}

func keptFor(days *int) string {
	if days == nil || *days == 0 {
		return "for ever"
	}
	return counted(int64(*days), "day")
}

func (a *app) setPolicy(cmd *cobra.Command, api *client.Client, file string) (contract.Policy, error) {
	var none contract.Policy
	text, err := os.ReadFile(file)
	if err != nil {
		return none, exitWith(ExitUsage, "the policy cannot be read: %w", err)
	}
	h, err := manifest.ParsePolicy(text)
	if err != nil {
		return none, exitWith(ExitUsage, "%s: %w", file, err)
	}
	body, err := like[contract.Policy](h)
	if err != nil {
		return none, err
	}
	return client.Do[contract.Policy](api.API.SetPolicyWithResponse(cmd.Context(), body))
}
