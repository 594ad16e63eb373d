package cli

import (
	"os"
	"strings"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/manifest"
)

func (a *app) house() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "house", Short: "Show or replace the house rules, which hold for all crossings", Args: none,
		Long: `Without --file it shows the house rules. With it, an admin replaces them. The file:

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
		var h contract.House
		if file == "" {
			h, err = client.Do[contract.House](api.API.GetHouseWithResponse(cmd.Context()))
		} else {
			h, err = a.setHouse(cmd, api, file)
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
	c.Flags().StringVarP(&file, "file", "f", "", "file with the house rules that replace those there are (needs the "+
		"admin role)")
	return c
}

func keptFor(days *int) string {
	if days == nil || *days == 0 {
		return "for ever"
	}
	return counted(int64(*days), "day")
}

func (a *app) setHouse(cmd *cobra.Command, api *client.Client, file string) (contract.House, error) {
	var none contract.House
	text, err := os.ReadFile(file)
	if err != nil {
		return none, exitWith(ExitUsage, "the house rules cannot be read: %w", err)
	}
	h, err := manifest.ParseHouse(text)
	if err != nil {
		return none, exitWith(ExitUsage, "%s: %w", file, err)
	}
	body, err := like[contract.House](h)
	if err != nil {
		return none, err
	}
	return client.Do[contract.House](api.API.SetHouseWithResponse(cmd.Context(), body))
}
