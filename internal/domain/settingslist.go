package domain

import (
	"time"
)

// The groups of settings, in the order in which people meet them.
var SettingGroups = []string{"Load", "Pace", "Changes", "Cutover"}

var settingsList = []Setting{
	{Key: "lanes", Kind: SettingCount, Group: "Load", Label: "Lanes", Live: true, Default: int64(2), Least: 1, Most: 64,
		Help: "Parallel paths on which chunks are carried", of: func(s *Settings) any { return &s.Lanes }},
	{Key: "speed_limit", Kind: SettingRate, Group: "Load", Label: "Speed limit", Live: true, Zero: "no limit",
		Help: "Bytes a second over all lanes of a process", of: func(s *Settings) any { return &s.SpeedLimit }},
	{Key: "chunk_size", Was: []string{"chunk_bytes"}, API: "chunk_bytes", Kind: SettingSize, Group: "Load",
		Label: "Chunk size", Default: int64(16e6), Least: 64_000, Most: 4 << 30,
		Help: "Aimed size of a chunk, which is what a failure repeats; small neighbours are carried together for " +
			"some seconds", of: func(s *Settings) any { return &s.ChunkBytes }},
	{Key: "max_attempts", Kind: SettingCount, Group: "Load", Label: "Tries of a chunk", Default: int64(6), Least: 1,
		Most: 100,
		Help: "Tries of a chunk before its table is held", of: func(s *Settings) any { return &s.MaxAttempts }},
	{Key: "existing_rows", Was: []string{"non_empty_target"}, Kind: SettingChoice, Group: "Load",
		Label: "Target tables that hold rows", Default: "refuse",
		Choices: []Choice{{"refuse", "refuse to start"}, {"keep", "load beside their rows"},
			{"empty", "empty them at the start"}, {"replace", "drop and make them anew"}},
		Help: "What becomes of target tables that hold rows", of: func(s *Settings) any { return &s.ExistingRows }},
	{Key: "repeat", Kind: SettingChoice, Group: "Load", Label: "A load that is done again", Default: "empty first",
		Choices: []Choice{{"empty first", "empties its tables first"}, {"in place", "replaces rows in place"}},
		Help: "How a load that is done again brings its rows: its tables are emptied first, or the rows of each chunk " +
			"take the place of those of its range in one transaction",
		of: func(s *Settings) any { return &s.Repeat }},
	{Key: "file_format", Kind: SettingChoice, Group: "Load", Label: "File format", Default: "csv.gz",
		Choices: []Choice{{"csv", "texts with commas between them"}, {"csv.gz", "such texts, packed by gzip"},
			{"csv.zst", "such texts, packed by zstd"}, {"jsonl", "objects of JSON, one a line"},
			{"jsonl.gz", "such objects, packed by gzip"}, {"jsonl.zst", "such objects, packed by zstd"},
			{"parquet", "columns of Parquet"}},
		Help: "How rows are written to files, where the target is a folder",
		of:   func(s *Settings) any { return &s.FileFormat }},
	{Key: "bad_rows", Kind: SettingChoice, Group: "Load", Label: "Rows that the target cannot take", Live: true,
		Default: "hold",
		Choices: []Choice{{"hold", "hold their table"}, {"set aside", "set aside, the rest lands"}},
		Help: "What becomes of a row that the target cannot take: its table is held, or the row is set aside with its " +
			"error while the rest lands",
		of: func(s *Settings) any { return &s.BadRows }},
	{Key: "bad_rows_limit", Kind: SettingCount, Group: "Load", Label: "Rejected rows at most", Live: true,
		Default: int64(1000), Least: 1, Most: 1_000_000,
		Help: "Rows of a table that are set aside before it is held", of: func(s *Settings) any { return &s.BadRowsLimit }},
	{Key: "read_order", Kind: SettingChoice, Group: "Load", Label: "Order in which tables are read", Default: "auto",
		Choices: []Choice{{"auto", "found for each table"}, {ReadByKey, "by ranges of the key"},
			{ReadByDisk, "by ranges of pages, where that can be"}},
		Help: "What the chunks of a table are ranges of. Where rows do not lie in the order of the key, and the table " +
			"is larger than the source's cache, reading by pages touches each only once; it needs changes to be followed, " +
			"and PostgreSQL on both sides",
		of: func(s *Settings) any { return &s.ReadOrder }},
	{Key: "build_lanes", Kind: SettingCount, Group: "Load", Label: "Indexes built at once", Live: true, Default: int64(2),
		Least: 1, Most: 32,
		Help: "Keys and indexes that are built at once on the target", of: func(s *Settings) any { return &s.BuildLanes }},

	{Key: "least_lanes", Kind: SettingCount, Group: "Pace", Label: "Least lanes", Live: true, Most: 64,
		Zero: "always as many as lanes says",
		Help: "The number of lanes is found between this and lanes", of: func(s *Settings) any { return &s.LeastLanes }},
	{Key: "row_limit", Kind: SettingCount, Group: "Pace", Label: "Row limit, rows a second", Live: true, Zero: "no limit",
		Help: "Rows a second over all lanes of a process", of: func(s *Settings) any { return &s.RowLimit }},
	{Key: "source_share", Kind: SettingShare, Group: "Pace", Label: "Share of time spent reading", Live: true, Most: 1,
		Zero: "all of it",
		Help: "Share of its time for which a lane may be reading the source", of: func(s *Settings) any {
			return &s.SourceShare
		}},
	{Key: "worker_label", Kind: SettingText, Group: "Pace", Label: "Label of workers", Live: true, Zero: "any",
		Help: "Only workers started with this label carry its chunks", of: func(s *Settings) any { return &s.WorkerLabel },
		check: func(v any) error {
			if err := ValidLabel(v.(string)); v != "" && err != nil {
				return Invalid("worker_label is not right: %s", err)
			}
			return nil
		}},
	{Key: "quiet_hours", Kind: SettingTexts, Group: "Pace", Label: "Quiet hours", Live: true, Zero: "none",
		Help: "When the load, and a comparison that takes a share of the time, holds back, such as mon-fri 08:00-18:00",
		of:   func(s *Settings) any { return &s.QuietHours },
		check: func(v any) error {
			for _, h := range v.([]string) {
				if _, err := ParseHours(h); err != nil {
					return err
				}
			}
			return nil
		}},
	{Key: "quiet_zone", Kind: SettingText, Group: "Pace", Label: "Time zone of quiet hours", Live: true, Zero: "UTC",
		Help: "Time zone of quiet_hours by its IANA name, such as Europe/Amsterdam", of: func(s *Settings) any {
			return &s.QuietZone
		},
		check: func(v any) error {
			if _, err := time.LoadLocation(v.(string)); err != nil {
				return Invalid("quiet_zone is %q; give a time zone by its IANA name, such as Europe/Amsterdam", v)
			}
			return nil
		}},
	{Key: "quiet_speed", Kind: SettingRate, Group: "Pace", Label: "Speed in quiet hours", Live: true,
		Zero: "no chunk begins in them",
		Help: "Bytes a second in quiet hours", of: func(s *Settings) any { return &s.QuietSpeed }},

	{Key: "in_step_lag", Kind: SettingDuration, Group: "Changes", Label: "In step when lag is under", Live: true,
		Cutover: true, Default: 5 * time.Second,
		Help: "Lag below which capture counts as in step", of: func(s *Settings) any { return &s.InStepLag }},
	{Key: "in_step_dwell", Kind: SettingDuration, Group: "Changes", Label: "In step for at least", Live: true,
		Default: 3 * time.Second,
		Help:    "How long the lag must stay below it", of: func(s *Settings) any { return &s.InStepDwell }},
	{Key: "lag_limit", Kind: SettingDuration, Group: "Changes", Label: "Alert when lag exceeds", Live: true, Zero: "never",
		Help: "Lag above which people are told, in the journal and by webhooks", of: func(s *Settings) any {
			return &s.LagLimit
		}},
	{Key: "batch_changes", Kind: SettingCount, Group: "Changes", Label: "Changes folded into one write",
		Default: int64(10_000), Least: 1, Most: 1_000_000,
		Help: "Changes that are folded into one write on the target, at most", of: func(s *Settings) any {
			return &s.BatchChanges
		}},
	{Key: "column_changes", Kind: SettingChoice, Group: "Changes", Label: "Changes of columns on the source", Live: true,
		Default: "hold",
		Choices: []Choice{{"hold", "hold the crossing"}, {"carry", "carry over what is safe"}},
		Help: "What becomes of a change of a table's columns on the source: the crossing waits for a person, or what is " +
			"surely safe is carried over to the target",
		of: func(s *Settings) any { return &s.ColumnChanges }},
	{Key: "retained_limit", Kind: SettingSize, Group: "Changes", Label: "Log kept by the source", Live: true, Zero: "any",
		Help: "Log that the source may keep for the crossing, such as 20GB", of: func(s *Settings) any {
			return &s.RetainedLimit
		}},
	{Key: "retained_over", Kind: SettingChoice, Group: "Changes", Label: "Above that limit", Live: true, Default: "go on",
		Choices: []Choice{{"go on", "go on, and tell people"}, {"release", "release it and hold"}},
		Help: "What becomes of the crossing above retained_limit: people are told, or the log is released and the " +
			"crossing held, to be loaded again",
		of: func(s *Settings) any { return &s.RetainedOver }},
	{Key: "stop_at", Kind: SettingText, Group: "Changes", Label: "Stop at", Live: true, Zero: "never",
		Help: "Capture stops before what was committed at this time (RFC 3339) or log position", of: func(s *Settings) any {
			return &s.StopAt
		}},
	{Key: "start_from", Kind: SettingText, Group: "Changes", Label: "Changes from", Zero: "now", WithoutRows: true,
		Help: "Log position or GTID from which changes are wanted: the one at which the target's rows stand",
		of:   func(s *Settings) any { return &s.StartFrom }},
	{Key: "slot", Kind: SettingText, Group: "Changes", Label: "Replication slot", Zero: "one is made at the start",
		WithoutRows: true,
		Help:        "A replication slot that stands on a PostgreSQL source", of: func(s *Settings) any { return &s.Slot }},

	{Key: "guard_target", Kind: SettingChoice, Group: "Changes", Label: "Writes of others on the target",
		Default: GuardRefuse,
		Choices: []Choice{{"allow", "are allowed"}, {GuardRefuse, "are refused until the cutover, where that can be"}},
		Help: "Whether the target's tables refuse writes of everybody but us until the cutover. It needs a PostgreSQL " +
			"target; tables that keep rows of their own (existing_rows) are left out",
		of: func(s *Settings) any { return &s.GuardTarget }},
	{Key: "vouch_every", Kind: SettingDuration, Group: "Changes", Label: "Rows that changes touched are compared every",
		Default: time.Minute, Zero: "never",
		Help: "How often rows that changes touched are compared on both sides while the crossing is in step; the target " +
			"keeps their keys until then", of: func(s *Settings) any { return &s.VouchEvery }},

	{Key: "hash_by", Kind: SettingChoice, Group: "Changes", Label: "Rows are hashed by", Live: true, Default: HashByFaster,
		Choices: []Choice{{HashByFaster, "the servers where they are measured to be faster by far, else the service"},
			{HashByService, "the service, to which every row comes"},
			{HashByServers, "both servers, where they can do it alike, so that one line a part comes"}},
		Help: "Who hashes rows for a comparison. Over a slow link the servers are faster; two PostgreSQL (12 and later) " +
			"or two MariaDB servers can, for most types",
		of: func(s *Settings) any { return &s.HashBy }},

	{Key: "pause_budget", Kind: SettingDuration, Group: "Cutover", Label: "Pause budget", Live: true, Cutover: true,
		Default: 2 * time.Minute, Least: 1,
		Help: "Longest write pause at cutover; beyond it everything is undone", of: func(s *Settings) any {
			return &s.PauseBudget
		}},
	{Key: "stop_method", Kind: SettingChoice, Group: "Cutover", Label: "Writes are stopped by", Live: true, Cutover: true,
		Default: string(StopLock),
		Choices: []Choice{{string(StopLock), "holding the tables' locks"}, {string(StopReadOnly),
			"making the database read-only"}, {string(StopWord), "a person's word"}},
		Help: "How writes are stopped at cutover", of: func(s *Settings) any { return &s.StopMethod }},
	{Key: "cutover_depth", Kind: SettingChoice, Group: "Cutover", Label: "Compared inside the pause", Live: true,
		Cutover: true, Default: string(DepthVouched),
		Choices: []Choice{{string(DepthVouched), "counts, and the rows that changes touched since all was compared"},
			{string(DepthHashes), "counts and hashes"}, {string(DepthCounts), "counts"}, {string(DepthNone), "nothing"}},
		Help: "Comparison inside the write pause", of: func(s *Settings) any { return &s.CutoverDepth }},
	{Key: "return_path", Kind: SettingChoice, Group: "Cutover", Label: "Return path", Live: true, Cutover: true,
		Default: "none", Choices: []Choice{{"none", "none: after the cutover there is no way back"}, {ReturnOpen,
			"open: what is written to the target is brought back to the source"}},
		Help: "Whether a cutover opens a return path: changes are captured on the target and applied to the source, which " +
			"is closed to everybody else, so that going back loses nothing", of: func(s *Settings) any { return &s.ReturnPath }},
	{Key: "handover_url", Kind: SettingText, Group: "Cutover", Label: "Webhook at hand-over", Live: true, Cutover: true,
		Secret: true, Zero: "none",
		Help: "Webhook called at hand-over", of: func(s *Settings) any { return &s.HandoverURL }},
	{Key: "handover_command", Kind: SettingText, Group: "Cutover", Label: "Command at hand-over", Live: true,
		Cutover: true, Secret: true, Admin: true, Zero: "none",
		Help: "Command that the service runs at hand-over, on its own machine and with its own rights; handover_url " +
			"needs neither", of: func(s *Settings) any { return &s.HandoverCommand }},
	{Key: "hold_points", Kind: SettingChoices, Group: "Cutover",
		Label: "Hold points: the cutover waits for a person before it would", Live: true, Cutover: true, Zero: "none",
		Choices: []Choice{{string(StepStopWrites), "stop writes (capture goes on, nothing is paused yet)"},
			{string(StepClose), "close the source (inside the write pause: its budget runs)"}},
		Help: "Steps of a cutover before which it waits for a person", of: func(s *Settings) any { return &s.HoldPoints }},
	{Key: "second_person", Kind: SettingChoice, Group: "Cutover", Label: "Who lets a cutover go on", Live: true,
		Cutover: true, Default: "no", Choices: []Choice{{"no", "anybody who may"}, {SecondYes,
			"another person than the one " +
				"who started it"}},
		Help: "Whether another person than the one who started a cutover has to let it pass its hold points; where none " +
			"is set it waits before it would stop writes", of: func(s *Settings) any { return &s.SecondPerson }},
	{Key: "gateway_patience", Kind: SettingDuration, Group: "Cutover", Label: "Open transactions in gateways have",
		Live: true, Cutover: true, Default: 2 * time.Second,
		Help: "How long transactions that are open in gateways have to end at a cutover, before connections that only wait " +
			"for their application are closed", of: func(s *Settings) any { return &s.GatewayPatience }},
}

// SettingsList are all settings of a crossing, in the order in which people meet them.
func SettingsList() []Setting { return settingsList }
