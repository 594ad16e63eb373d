package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/manifest"
)

func (a *app) crossingCmd() *cobra.Command {
	c := &cobra.Command{Use: "crossing", Aliases: []string{"crossings"}, Short: "Create and steer crossings"}
	c.AddCommand(a.crossingCreate(), a.crossingList(), a.crossingShow(), a.crossingExport(), a.crossingSchema(),
		a.crossingPlan(), a.crossingRules(), a.crossingPlanning(), a.crossingPreview(), a.crossingObjects(), a.crossingCopy(),
		a.crossingSet(), a.crossingStart(),
		a.crossingPause(), a.crossingResume(), a.crossingRestart(), a.crossingRefresh(), a.crossingFailOver(),
		a.crossingAddTable(), a.crossingLeaveOut(), a.crossingRejected(), a.crossingClose(), a.crossingRemove())
	return c
}

func (a *app) crossingCreate() *cobra.Command {
	var file, source, target, kind string
	var copyRows, followChanges bool
	var tables []string
	c := &cobra.Command{
		Use: "create NAME", Short: "Create a crossing, from flags or from a manifest",
		Example: `  dustyferry crossing create spring --source old --target new --table 'shop.*' --table '-shop.tmp*'
  dustyferry crossing create --file spring.yaml`,
		Args: atMostOne,
	}
	settings := settingFlags(c, anySetting)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		var out contract.Crossing
		switch {
		case file != "":
			if err := onlyFile(cmd, args); err != nil {
				return err
			}
			text, err := os.ReadFile(file)
			if err != nil {
				return exitWith(ExitUsage, "the manifest cannot be read: %w", err)
			}
			out, err = client.Do[contract.Crossing](api.API.ImportManifestWithTextBodyWithResponse(cmd.Context(), string(text)))
			if err != nil {
				return err
			}
		case len(args) == 0:
			return exitWith(ExitUsage, "the crossing's NAME is missing, or a manifest (--file)")
		case source == "" || target == "":
			return exitWith(ExitUsage, "--source and --target are needed: the names of two registered databases")
		default:
			set, err := settings()
			if err != nil {
				return err
			}
			body := contract.NewCrossing{Name: args[0], Source: source, Target: target, Tables: someOf(tables), Settings: set}
			settingGiven(c.Flags().Changed("copy-rows"), &body.CopyRows, &copyRows)
			settingGiven(c.Flags().Changed("follow-changes"), &body.FollowChanges, &followChanges)
			settingGiven(kind != "", &body.Kind, (*contract.NewCrossingKind)(&kind))
			out, err = client.Do[contract.Crossing](api.API.AddCrossingWithResponse(cmd.Context(), body))
			if err != nil {
				return err
			}
		}
		return a.show(out, func(w *table) {
			w.line("Crossing %s is created: from %s to %s, %s. Look before you start: dustyferry survey %s", out.Name,
				out.Source, out.Target, does(out), out.Name)
			for _, n := range deref(out.Notices) {
				w.line("Notice: %s.", n)
			}
		})
	}
	f := c.Flags()
	f.StringVarP(&file, "file", "f", "", "manifest to create it from")
	f.StringVar(&source, "source", "", "name of the source database")
	f.StringVar(&target, "target", "", "name of the target database")
	f.BoolVar(&copyRows, "copy-rows", true, "copy the rows that are there; false: changes only, onto rows that are on "+
		"the target already (see --start-from)")
	f.BoolVar(&followChanges, "follow-changes", true, "follow live changes; false: one load, which can be repeated")
	f.StringVar(&kind, "kind", "", "load+capture, load or capture")
	_ = f.MarkDeprecated("kind", "use --copy-rows and --follow-changes")
	f.StringArrayVar(&tables, "table", nil, "table pattern schema.table with *; a leading - leaves out; repeatable, the "+
		"last match wins (default: every table)")
	return c
}

// does says in words which of the two things a crossing does.
func does(c contract.Crossing) string {
	switch {
	case !c.FollowChanges:
		return "copies rows"
	case !c.CopyRows:
		return "follows changes"
	}
	return "copies rows and follows changes"
}

// settingGiven sends what was given.
func settingGiven[T any](given bool, to **T, value *T) {
	if given {
		*to = value
	}
}

// onlyFile refuses what is given beside a manifest: it says everything, and what is beside
// it would be left out in silence.
func onlyFile(cmd *cobra.Command, args []string) error {
	var beside []string
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if f.Name != "file" && cmd.InheritedFlags().Lookup(f.Name) == nil {
			beside = append(beside, "--"+f.Name)
		}
	})
	if len(args) > 0 {
		beside = append(beside, "the name "+args[0])
	}
	if len(beside) > 0 {
		return exitWith(ExitUsage, "--file says everything about the crossing, so %s cannot stand beside it; write it "+
			"into the file", strings.Join(beside, ", "))
	}
	return nil
}

func (a *app) crossingSchema() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the manifest's format as a JSON Schema, for editors and checks", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := manifest.Schema()
			if err == nil {
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n", text)
			}
			return err
		},
	}
}

func (a *app) crossingList() *cobra.Command {
	var search string
	var waiting bool
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "List crossings, those that need a person first", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			page, err := client.Do[contract.CrossingPage](api.API.ListCrossingsWithResponse(cmd.Context(),
				&contract.ListCrossingsParams{Search: &search, Waiting: &waiting, Limit: &limit}))
			if err != nil {
				return err
			}
			return a.show(page, func(w *table) {
				switch {
				case page.Total == 0:
					w.line("There is no crossing yet; 'dustyferry crossing create' makes one.")
					return
				case page.Matched == 0:
					w.line("None of %d crossings is chosen by these flags.", page.Total)
					return
				}
				defer func() {
					if n := page.Matched - len(page.Crossings); n > 0 {
						w.line("… and %d more; --search or --limit shows them", n)
					}
				}()
				w.row("NAME", "PHASE", "CONDITION", "FROM", "TO", right+"LOADED", right+"ROWS", right+"ROWS/S", right+"LAG")
				for _, c := range page.Crossings {
					p := c.Progress
					lag := "-"
					if p.Capture != "none" && c.Phase != contract.PhaseCutOver && c.Phase != contract.PhaseClosed {
						lag = shortLag(p)
					}
					w.row(c.Name, c.PhaseLabel, string(c.Condition), c.Source, c.Target, right+percent(p), right+num(p.Rows),
						right+num(int64(p.RowsPerSecond)), right+lag)
				}
			})
		},
	}
	c.Flags().StringVar(&search, "search", "", "only those with this in their name or a database's name")
	c.Flags().BoolVar(&waiting, "waiting", false, "only those that need a person")
	c.Flags().IntVar(&limit, "limit", 200, "how many at most, up to 1000")
	return c
}

func percent(p contract.Progress) string {
	if p.Chunks == 0 {
		return "-"
	}
	return fmt.Sprintf("%.0f %%", 100*share(p))
}

// share is how much of the load is done, by bytes; it is whole only when every
// chunk has landed.
func share(p contract.Progress) float64 {
	if p.ChunksLanded == p.Chunks && p.Chunks > 0 {
		return 1
	}
	if p.BytesEstimated == 0 {
		return 0
	}
	return min(0.99, float64(p.Bytes)/float64(p.BytesEstimated))
}

func (a *app) crossingShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a crossing with its tables", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			c, err := client.Do[contract.Crossing](api.API.GetCrossingWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			tables, err := client.Do[contract.TablePage](api.API.ListTablesWithResponse(cmd.Context(), args[0],
				&contract.ListTablesParams{}))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"crossing": c, "tables": tables.Tables}, func(w *table) {
				showCrossing(w, c, tables.Tables)
			})
		},
	}
}

func showCrossing(w *table, c contract.Crossing, tables []contract.Table) {
	p := c.Progress
	state := fmt.Sprintf("%s, %s", c.PhaseLabel, c.Condition)
	waits := c.WaitsFor
	if waits == c.Reason {
		waits = ""
	}
	w.pairs("crossing", c.Name, "does", does(c), "from", c.Source, "to", c.Target, "state", state, "because", c.Reason,
		"waits for", waits, "work", deref(p.Work),
		"created", stampText(&c.CreatedAt), "started", stampText(c.StartedAt), "landed", stampText(c.LandedAt), "in step",
		stampText(c.InStepAt),
		"cut over", stampText(c.CutOverAt), "closed", stampText(c.ClosedAt))
	if c.ReturnOf != nil {
		w.pairs("return path", fmt.Sprintf("of %s: it brings back what is written to %s since the cutover", *c.ReturnOf,
			c.Source), "to go back", "dustyferry cutover start "+c.Name)
	}
	if c.ReturnBy != nil {
		w.pairs("return path", fmt.Sprintf("%s brings back what is written to %s", *c.ReturnBy, c.Target), "see",
			"dustyferry crossing show "+*c.ReturnBy)
	}
	if p.Chunks > 0 {
		w.pairs("loaded", fmt.Sprintf("%s, %s rows, %s, %d of %d chunks", percent(p), num(p.Rows), size(p.Bytes),
			p.ChunksLanded, p.Chunks))
	}
	switch over := c.Phase == contract.PhaseCutOver || c.Phase == contract.PhaseClosed; {
	case over && p.Capture != "none":
		w.pairs("capture", "has ended", "applied", fmt.Sprintf("%s changes, up to %s", num(p.Changes),
			deref(p.AppliedPosition)), "vouched for", vouchedText(p))
	case p.Capture != "none":
		w.pairs("capture", "runs on "+p.Capture, "applied", fmt.Sprintf("%s changes, up to %s", num(p.Changes),
			deref(p.AppliedPosition)),
			"lag", lagText(p), "log kept", keptText(p), "vouched for", vouchedText(p))
	}
	if len(tables) == 0 {
		return
	}
	w.line("")
	w.row("TABLE", "STATE", right+"ROWS", right+"SIZE", right+"CHUNKS", right+"INSERTS", right+"UPDATES", right+"DELETES",
		"KEY")
	for _, t := range tables {
		key := strings.Join(t.Key, ", ")
		if key == "" {
			key = "none"
		}
		w.row(t.Name, string(t.State), right+num(t.Rows), right+size(t.Bytes), right+fmt.Sprintf("%d/%d", t.ChunksLanded,
			t.Chunks),
			right+num(t.Inserts), right+num(t.Updates), right+num(t.Deletes), key)
	}
	for _, t := range tables {
		if t.Reason != "" {
			w.line("\n%s is held: %s", t.Name, t.Reason)
		}
	}
}

func (a *app) crossingExport() *cobra.Command {
	return &cobra.Command{
		Use: "export NAME", Short: "Write a crossing as a manifest", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			text, err := client.Do[string](api.API.ExportManifestWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(a.out, text)
			return err
		},
	}
}

func (a *app) crossingSet() *cobra.Command {
	c := &cobra.Command{Use: "set NAME", Short: "Change settings; most of them also while it runs (docs/settings.md)",
		Args:    exactly("the crossing's NAME"),
		Example: `  dustyferry crossing set spring --lanes 4 --speed-limit 20MB`}
	settings := settingFlags(c, anySetting)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		set, err := settings()
		if err != nil {
			return err
		}
		return a.act(cmd.Context(), args[0], waiting{}, func(api *client.Client) (contract.Crossing, error) {
			return client.Do[contract.Crossing](api.API.ChangeCrossingWithResponse(cmd.Context(), args[0], *set))
		}, "Settings of "+args[0]+" are changed.")
	}
	return c
}

// act asks for something and says so, and where that is waited for, follows the crossing
// until it is in the wanted phase.
func (a *app) act(ctx context.Context, name string, w waiting, f func(*client.Client) (contract.Crossing, error),
	said string) error {
	api, err := a.client()
	if err != nil {
		return err
	}
	c, err := f(api)
	if err != nil {
		return err
	}
	if !w.on {
		return a.show(c, func(w *table) { w.line("%s", said) })
	}
	fmt.Fprintln(a.err, said)
	if err := w.within(ctx, name+" is not "+string(w.want)+" yet and goes on", func(ctx context.Context) error {
		return a.follow(ctx, api, name, w.want)
	}); err != nil {
		return err
	}
	if c, err = client.Do[contract.Crossing](api.API.GetCrossingWithResponse(ctx, name)); err != nil {
		return err
	}
	return a.show(c, func(t *table) { t.line("Crossing %s is %s.", name, c.PhaseLabel) })
}

func (a *app) crossingStart() *cobra.Command {
	w := waiting{want: contract.PhaseInStep}
	var confirm string
	c := &cobra.Command{
		Use: "start NAME", Short: "Begin: survey, make the tables, load and capture", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd.Context(), args[0], w, func(api *client.Client) (contract.Crossing, error) {
				return client.Do[contract.Crossing](api.API.StartCrossingWithResponse(cmd.Context(), args[0],
					contract.StartCrossingJSONRequestBody{Confirm: &confirm}))
			}, "Crossing "+args[0]+" begins. Watch it with: dustyferry watch "+args[0])
		},
	}
	w.flags(c, "wait until it is in step, showing progress")
	c.Flags().StringVar(&confirm, "confirm", "", "the target database's name, where rows on the target will be removed")
	return c
}

func (a *app) crossingPause() *cobra.Command {
	var keep bool
	c := &cobra.Command{
		Use: "pause NAME", Short: "Stop load and capture; nothing is lost", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			said := "Crossing " + args[0] + " is paused. While capture stands still the source keeps its log: resume before " +
				"its disk fills."
			if keep {
				said = "The load of " + args[0] + " is paused; capture goes on."
			}
			return a.act(cmd.Context(), args[0], waiting{}, func(api *client.Client) (contract.Crossing, error) {
				return client.Do[contract.Crossing](api.API.PauseCrossingWithResponse(cmd.Context(), args[0],
					contract.PauseCrossingJSONRequestBody{KeepCapture: keep}))
			}, said)
		},
	}
	c.Flags().BoolVar(&keep, "keep-capture", false, "let capture go on while the load stands still")
	return c
}

func (a *app) crossingResume() *cobra.Command {
	return &cobra.Command{
		Use: "resume NAME", Short: "Let a paused or held crossing go on", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd.Context(), args[0], waiting{}, func(api *client.Client) (contract.Crossing, error) {
				return client.Do[contract.Crossing](api.API.ResumeCrossingWithResponse(cmd.Context(), args[0]))
			}, "Crossing "+args[0]+" goes on.")
		},
	}
}

func (a *app) crossingRestart() *cobra.Command {
	var only string
	var all bool
	c := &cobra.Command{
		Use: "restart NAME", Short: "Copy one table again, or all of them", Args: exactly("the crossing's NAME"),
		Long: `Copy one table again (--table), or all of them (--all). Target tables are emptied first,
unless the crossing's setting repeat is 'in place'.`,
		Example: `  dustyferry crossing restart spring --table shop.orders --confirm shop.orders
  dustyferry crossing restart spring --all --confirm spring`,
	}
	confirm := confirmFlag(c, "the table's name, or with --all the crossing's,")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if all == (only != "") {
			return exitWith(ExitUsage, "give one of --table (copy one table again) and --all (copy every table of %s again)",
				args[0])
		}
		name, act, body := args[0], "restarting every table of "+args[0], contract.Restart{}
		if all {
			body.All = &all
		} else {
			name, act, body.Table = only, "restarting "+only, &only
		}
		word, err := a.confirmed(*confirm, name, act)
		if err != nil {
			return err
		}
		body.Confirm = &word
		return a.act(cmd.Context(), args[0], waiting{}, func(api *client.Client) (contract.Crossing, error) {
			return client.Do[contract.Crossing](api.API.RestartCrossingWithResponse(cmd.Context(), args[0], body))
		}, upperFirst(act)+" has begun.")
	}
	c.Flags().StringVar(&only, "table", "", "only this table (schema.table)")
	c.Flags().BoolVar(&all, "all", false, "every table")
	return c
}

func (a *app) crossingClose() *cobra.Command {
	var reopen bool
	var w waiting
	c := &cobra.Command{
		Use: "close NAME", Short: "End a crossing: remove what it left on both servers, write its certificate",
		Args:    exactly("the crossing's NAME"),
		Example: "  dustyferry crossing close spring --wait --confirm spring",
	}
	confirm := confirmFlag(c, "the crossing's name")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		word, err := a.confirmed(*confirm, args[0], "closing "+args[0])
		if err != nil {
			return err
		}
		api, err := a.client()
		if err != nil {
			return err
		}
		out, err := client.Do[contract.Crossing](api.API.CloseCrossingWithResponse(cmd.Context(), args[0],
			contract.CloseCrossingJSONRequestBody{Reopen: reopen, Confirm: &word}))
		if err != nil {
			return err
		}
		said := fmt.Sprintf("Crossing %s is being closed; then: dustyferry certificate %s", args[0], args[0])
		if w.on {
			// The task, not the phase: that is closed as soon as nothing is written any more.
			if err := w.within(cmd.Context(), args[0]+" is being closed and goes on to be", func(ctx context.Context) error {
				return awaitTask(ctx, api, args[0], "close")
			}); err != nil {
				return err
			}
			if out, err = client.Do[contract.Crossing](api.API.GetCrossingWithResponse(cmd.Context(), args[0])); err != nil {
				return err
			}
			said = fmt.Sprintf("Crossing %s is closed. Its account: dustyferry certificate %s", args[0], args[0])
		}
		return a.show(out, func(t *table) { t.line("%s", said) })
	}
	c.Flags().BoolVar(&reopen, "reopen-source", false, "let the source take writes again after a cutover")
	w.flags(c, "wait until everything is removed and the certificate written")
	return c
}

func (a *app) crossingRemove() *cobra.Command {
	c := &cobra.Command{
		Use: "remove NAME", Short: "Remove a closed crossing from the records; the journal keeps its story",
		Args: exactly("the crossing's NAME"),
	}
	confirm := confirmFlag(c, "the crossing's name")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		word, err := a.confirmed(*confirm, args[0], "removing the records of "+args[0])
		if err != nil {
			return err
		}
		api, err := a.client()
		if err != nil {
			return err
		}
		if _, err := client.Do[struct{}](api.API.RemoveCrossingWithResponse(cmd.Context(), args[0],
			&contract.RemoveCrossingParams{Confirm: &word})); err != nil {
			return err
		}
		return a.show(map[string]string{"removed": args[0]}, func(w *table) {
			w.line("Crossing %s is removed from the records.", args[0])
		})
	}
	return c
}

func (a *app) surveyCmd() *cobra.Command {
	return &cobra.Command{
		Use: "survey NAME", Short: "Look at both sides before anything moves; changes nothing",
		Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			p := a.progress()
			p.say(-1, "surveying both sides …")
			list, err := client.Do[[]contract.Entry](api.API.SurveyCrossingWithResponse(cmd.Context(), args[0]))
			p.end()
			if err != nil {
				return err
			}
			blocks := 0
			for _, e := range list {
				if e.Verdict == contract.Blocker {
					blocks++
				}
			}
			err = a.show(list, func(w *table) {
				entries(w, list)
				if blocks == 0 {
					w.line("\nNo blockers. Start with: dustyferry crossing start %s", args[0])
				} else {
					w.line("\n%s. Fix what each says, then survey again.", counted(int64(blocks), "blocker"))
				}
			})
			if err == nil && blocks > 0 {
				return exitWith(ExitProblem, "%s", counted(int64(blocks), "blocker"))
			}
			return err
		},
	}
}
