package cli

import (
	"strconv"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func (a *app) taskCmd() *cobra.Command {
	c := &cobra.Command{Use: "task", Aliases: []string{"tasks"},
		Short: "Show the longer pieces of work on a crossing, and end one before its time"}
	c.AddCommand(a.taskList(), a.taskCancel())
	return c
}

func (a *app) taskList() *cobra.Command {
	return &cobra.Command{
		Use: "list NAME", Short: "Show a crossing's tasks, newest first", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			list, err := client.Do[[]contract.Task](api.API.ListTasksWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(list, func(w *table) {
				if len(list) == 0 {
					w.line("Crossing %s has had no tasks yet.", args[0])
					return
				}
				w.row(right+"ID", "TASK", "STATE", "BY", "BEGUN", "ENDED", "WHAT")
				for _, t := range list {
					state, what := string(t.State), t.Error
					if t.Ends {
						state += ", ending"
					}
					if what == "" && t.EndedAt == nil {
						what = t.Note
					}
					w.row(right+strconv.FormatInt(t.Id, 10), t.Kind, state, t.Actor, stampText(&t.CreatedAt), stampText(t.EndedAt),
						what)
				}
			})
		},
	}
}

func (a *app) taskCancel() *cobra.Command {
	return &cobra.Command{
		Use: "cancel NAME ID", Short: "End a task before its time", Args: exactly("the crossing's NAME", "the task's ID"),
		Long: `End a fit check, reconciliation, repair, refresh, survey, start or the adding of a table
before its time. It ends within seconds; what it had begun is taken back where it must be. A
cutover is aborted instead ('dustyferry cutover abort'); closing and building are carried to
their end.`,
		Example: `  dustyferry task list spring
  dustyferry task cancel spring 12`,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return exitWith(ExitUsage, "%q is no task's number; 'dustyferry task list %s' shows them", args[1], args[0])
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			t, err := client.Do[contract.Task](api.API.CancelTaskWithResponse(cmd.Context(), args[0], id))
			if err != nil {
				return err
			}
			return a.show(t, func(w *table) { w.line("Task %d (%s) of %s ends.", t.Id, t.Kind, args[0]) })
		},
	}
}
