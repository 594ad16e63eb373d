package cli

import (
	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) crossingAddTable() *cobra.Command {
	return &cobra.Command{
		Use: "add-table NAME TABLE", Short: "Add a table of the source while the others go on",
		Args: exactly("the crossing's NAME", "the TABLE (schema.table)"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd.Context(), args[0], waiting{}, func(api *client.Client) (contract.Crossing, error) {
				return client.Do[contract.Crossing](api.API.AddTableWithResponse(cmd.Context(), args[0],
					contract.OneTable{Table: args[1]}))
			}, "Table "+args[1]+" is being added to "+args[0]+".")
		},
	}
}

func (a *app) crossingLeaveOut() *cobra.Command {
	c := &cobra.Command{
		Use: "leave-out NAME TABLE", Short: "Take a table out while the others go on", Args: exactly("the crossing's NAME",
			"the TABLE (schema.table)"),
		Long: "Take a table out of a crossing under way. What has landed of it stays on the target as it is, and " +
			"is\nfollowed no more.",
	}
	confirm := confirmFlag(c, "the table's name")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		word, err := a.confirmed(*confirm, args[1], "leaving out "+args[1])
		if err != nil {
			return err
		}
		return a.act(cmd.Context(), args[0], waiting{}, func(api *client.Client) (contract.Crossing, error) {
			return client.Do[contract.Crossing](api.API.LeaveOutTableWithResponse(cmd.Context(), args[0],
				contract.LeaveOutTableJSONRequestBody{Table: args[1], Confirm: &word}))
		}, "Table "+args[1]+" no longer belongs to "+args[0]+".")
	}
	return c
}

func (a *app) crossingFailOver() *cobra.Command {
	return &cobra.Command{
		Use: "failover NAME", Aliases: []string{"take-up"}, Short: "Go on with capture on a promoted replica of the source",
		Args: exactly("the crossing's NAME"),
		Long: "Go on with capture on the server that answers at the source's address now, when it is a replica that\nwas " +
			"promoted in place of the first one. Its load must be complete. Where to go on is found by the\nGTID that stands " +
			"on the target beside the last applied change.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd.Context(), args[0], waiting{}, func(api *client.Client) (contract.Crossing, error) {
				return client.Do[contract.Crossing](api.API.FailOverCrossingWithResponse(cmd.Context(), args[0]))
			}, "Crossing "+args[0]+" goes on from the server that answers now.")
		},
	}
}

func (a *app) crossingRefresh() *cobra.Command {
	var confirm string
	c := &cobra.Command{
		Use: "refresh NAME", Short: "Read the rows past the watermarks of a crossing's tables",
		Args: exactly("the crossing's NAME"),
		Long: `Read the rows past the watermarks that the rules name (watermark, overlap; see 'dustyferry
crossing rules'), and put them in place of those with the same keys. Tables without a
watermark are emptied and loaded again; --confirm allows that. Rows that were deleted on the
source are not seen: 'dustyferry reconcile' finds them, 'dustyferry repair' removes them.
'dustyferry runs' lists what each run has done.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd.Context(), args[0], waiting{}, func(api *client.Client) (contract.Crossing, error) {
				body := contract.RefreshCrossingJSONRequestBody{}
				if confirm != "" {
					body.Confirm = &confirm
				}
				return client.Do[contract.Crossing](api.API.RefreshCrossingWithResponse(cmd.Context(), args[0], body))
			}, "Crossing "+args[0]+" is being refreshed; 'dustyferry runs "+args[0]+"' shows what it does.")
		},
	}
	c.Flags().StringVar(&confirm, "confirm", "", "the target's name, where tables are loaded anew")
	return c
}
