package cli

import (
	"time"

	"github.com/spf13/cobra"

	"dustyferry/internal/contract"
	"dustyferry/internal/manifest"
)

// settingGiven sends a setting that was given.
func settingGiven[T any](given bool, to **T, value *T) {
	if given {
		*to = value
	}
}

// settingFlags are the settings as flags; only those given are sent.
func settingFlags(c *cobra.Command) func() (*contract.Settings, error) {
	f := c.Flags()
	lanes := f.Int("lanes", 2, "parallel paths for chunks")
	chunk := f.String("chunk-size", "16MB", "aimed size of a chunk; neighbours are carried together for some seconds")
	limit := f.String("speed-limit", "0", "bytes per second of a process's lanes, such as 20MB; 0 for none")
	attempts := f.Int("max-attempts", 6, "tries of a chunk before its table is held")
	lag := f.Duration("in-step-lag", 5*time.Second, "lag below which capture counts as in step")
	budget := f.Duration("pause-budget", 2*time.Minute, "longest write pause at cutover; beyond it everything is undone")
	stop := f.String("stop-method", "lock", "how writes are stopped at cutover: lock, read-only or word")
	depth := f.String("cutover-depth", "hashes", "comparison inside the write pause: hashes, counts or none")
	hook := f.String("handover-url", "", "webhook called at hand-over")
	command := f.String("handover-command", "", "command run by the service at hand-over (needs the admin role)")
	holds := f.StringSlice("hold-points", nil, "steps of a cutover before which it waits for a person: stop writes, close source")
	fill := f.String("non-empty-target", "refuse", "target tables that hold rows: refuse, keep, empty or replace")
	least := f.Int("least-lanes", 0, "find the number of lanes between this and --lanes; 0 for always that many")
	rows := f.Int64("row-limit", 0, "rows per second of a process's lanes; 0 for none")
	share := f.Float64("source-share", 0, "share of its time for which a lane may be reading; 0 for all of it")
	quiet := f.StringSlice("quiet-hours", nil, "when the load holds back, such as 'mon-fri 08:00-18:00'")
	zone := f.String("quiet-zone", "", "time zone of --quiet-hours, such as Europe/Amsterdam (default UTC)")
	quietSpeed := f.String("quiet-speed", "0", "bytes per second in quiet hours; 0 lets no chunk begin in them")
	bad := f.String("bad-rows", "hold", "rows that the target cannot take: hold their table, or 'set aside' with their error while the rest lands")
	badLimit := f.Int("bad-rows-limit", 1000, "rows of a table set aside before it is held")
	build := f.Int("build-lanes", 2, "keys and indexes built at once on the target")
	lagLimit := f.Duration("lag-limit", 0, "lag above which people are told (journal, webhooks); 0 for none")
	label := f.String("worker-label", "", "only workers started with this label carry its chunks")
	repeat := f.String("repeat", "empty first", "a load that is done again: 'empty first' its tables, or 'in place': each chunk's rows take the place of those of its range at once")
	columns := f.String("column-changes", "hold", "changes of columns on the source: hold the crossing, or carry over to the target what is surely safe")
	retained := f.String("retained-limit", "0", "log that the source may keep for the crossing, such as 20GB; 0 for any")
	over := f.String("retained-over", "go on", "above it: 'go on' and tell people, or release the log and hold the crossing")
	stopAt := f.String("stop-at", "", "capture stops before what was committed at this time (RFC 3339) or log position; '' lets it go on")
	startFrom := f.String("start-from", "", "kind capture: log position or GTID from which changes are wanted (default: from now)")
	slot := f.String("slot", "", "kind capture: a replication slot that stands on a PostgreSQL source")
	return func() (*contract.Settings, error) {
		s := &contract.Settings{}
		given := func(n string) bool { return f.Changed(n) }
		settingGiven(given("least-lanes"), &s.LeastLanes, least)
		settingGiven(given("row-limit"), &s.RowLimit, rows)
		settingGiven(given("source-share"), &s.SourceShare, share)
		settingGiven(given("quiet-hours"), &s.QuietHours, quiet)
		settingGiven(given("quiet-zone"), &s.QuietZone, zone)
		settingGiven(given("bad-rows"), &s.BadRows, (*contract.SettingsBadRows)(bad))
		settingGiven(given("bad-rows-limit"), &s.BadRowsLimit, badLimit)
		settingGiven(given("build-lanes"), &s.BuildLanes, build)
		settingGiven(given("worker-label"), &s.WorkerLabel, label)
		settingGiven(given("repeat"), &s.Repeat, (*contract.SettingsRepeat)(repeat))
		settingGiven(given("column-changes"), &s.ColumnChanges, (*contract.SettingsColumnChanges)(columns))
		settingGiven(given("retained-over"), &s.RetainedOver, (*contract.SettingsRetainedOver)(over))
		settingGiven(given("stop-at"), &s.StopAt, stopAt)
		settingGiven(given("start-from"), &s.StartFrom, startFrom)
		settingGiven(given("slot"), &s.Slot, slot)
		if given("lanes") {
			s.Lanes = lanes
		}
		for _, z := range []struct {
			name, text string
			to         **int64
		}{{"chunk-size", *chunk, &s.ChunkBytes}, {"speed-limit", *limit, &s.SpeedLimit}, {"quiet-speed", *quietSpeed, &s.QuietSpeed}, {"retained-limit", *retained, &s.RetainedLimit}} {
			if given(z.name) {
				n, err := manifest.ParseSize(z.text)
				if err != nil {
					return nil, exitWith(ExitUsage, "--%s: %w", z.name, err)
				}
				*z.to = &n
			}
		}
		if given("max-attempts") {
			s.MaxAttempts = attempts
		}
		if given("in-step-lag") {
			v := lag.Seconds()
			s.InStepLagSeconds = &v
		}
		if given("lag-limit") {
			v := lagLimit.Seconds()
			s.LagLimitSeconds = &v
		}
		if given("pause-budget") {
			v := budget.Seconds()
			s.PauseBudgetSeconds = &v
		}
		if given("stop-method") {
			s.StopMethod = (*contract.SettingsStopMethod)(stop)
		}
		if given("cutover-depth") {
			s.CutoverDepth = (*contract.SettingsCutoverDepth)(depth)
		}
		if given("handover-url") {
			s.HandoverUrl = hook
		}
		if given("handover-command") {
			s.HandoverCommand = command
		}
		if given("non-empty-target") {
			s.NonEmptyTarget = (*contract.SettingsNonEmptyTarget)(fill)
		}
		if given("hold-points") {
			list := []contract.SettingsHoldPoints{}
			for _, h := range *holds {
				list = append(list, contract.SettingsHoldPoints(h))
			}
			s.HoldPoints = &list
		}
		return s, nil
	}
}
