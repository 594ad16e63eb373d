// Package manifest reads and writes the YAML form of a crossing, for files kept
// in version control. Reading is strict: an unknown key or a wrong value is an
// error that names line and column. Export and import lose nothing; passwords
// are never part of it.
package manifest

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"

	"dustyferry/internal/domain"
)

// Version is the format's version, the value of the first key.
const Version = 1

// File is a manifest.
type File struct {
	Version  int      `yaml:"dusty_ferry" jsonschema:"required,enum=1,description=Version of the format"`
	Crossing Crossing `yaml:"crossing" jsonschema:"required"`
}

// Crossing is the part that describes the crossing.
type Crossing struct {
	Name   string        `yaml:"name" jsonschema:"required,description=Letters\\, digits\\, dash\\, dot and underscore"`
	Kind   domain.Kind   `yaml:"kind,omitempty" jsonschema:"enum=load,enum=load+capture,description=default: load+capture"`
	Source string        `yaml:"source" jsonschema:"required,description=Name of the registered source database"`
	Target string        `yaml:"target" jsonschema:"required,description=Name of the registered target database"`
	Tables []string      `yaml:"tables,omitempty" jsonschema:"description=Patterns schema.table with *; a leading - leaves out; the last that matches wins (default: every table)"`
	Rules  []domain.Rule `yaml:"rules,omitempty" jsonschema:"description=Changes to the plans of tables; of several that match a later one wins\\, attribute by attribute"`
	// As [domain.Planning], which a person finds beside the rest.
	Queries    []domain.Query    `yaml:"queries,omitempty" jsonschema:"description=Queries whose rows become tables of the target; crossings of kind load"`
	Parameters map[string]string `yaml:"parameters,omitempty" jsonschema:"description=Values of :name in queries\\, conditions and expressions: texts\\, numbers\\, or times like today - 7 days"`
	Before     []string          `yaml:"before,omitempty" jsonschema:"description=Statements that run on the target when its tables stand\\, before the first row"`
	After      []string          `yaml:"after,omitempty" jsonschema:"description=Statements that run on the target when the load has ended and its indexes stand"`
	Carry      []domain.Carried  `yaml:"carry,omitempty" jsonschema:"enum=views,enum=routines,enum=triggers,description=What else is made on a target of the same engine"`
	Settings   Settings          `yaml:"settings,omitempty"`
}

// Planning is the part that [domain.Planning] holds.
func (c Crossing) Planning() domain.Planning {
	return domain.Planning{Queries: c.Queries, Parameters: c.Parameters, Before: c.Before, After: c.After, Carry: c.Carry}
}

// Settings are the crossing's settings as people write them: sizes like 64MB,
// durations like 2m30s.
type Settings struct {
	Lanes           int               `yaml:"lanes,omitempty" jsonschema:"minimum=1,maximum=64,description=Parallel paths for chunks"`
	ChunkSize       Size              `yaml:"chunk_size,omitempty" jsonschema:"description=Aimed size of a chunk"`
	MaxAttempts     int               `yaml:"max_attempts,omitempty" jsonschema:"minimum=1,maximum=100,description=Tries of a chunk before its table is held"`
	SpeedLimit      Size              `yaml:"speed_limit,omitempty" jsonschema:"description=Bytes per second of a process's lanes; 0 for none"`
	BatchChanges    int               `yaml:"batch_changes,omitempty" jsonschema:"minimum=1,maximum=1000000,description=Changes folded into one apply"`
	InStepLag       time.Duration     `yaml:"in_step_lag,omitempty" jsonschema:"description=Lag below which capture counts as in step"`
	InStepDwell     time.Duration     `yaml:"in_step_dwell,omitempty" jsonschema:"description=How long it must stay there"`
	PauseBudget     time.Duration     `yaml:"pause_budget,omitempty" jsonschema:"description=Longest write pause at cutover\\, at least 1s"`
	StopMethod      domain.StopMethod `yaml:"stop_method,omitempty" jsonschema:"enum=lock,enum=read-only,enum=word,description=How writes are stopped at cutover"`
	CutoverDepth    domain.Depth      `yaml:"cutover_depth,omitempty" jsonschema:"enum=hashes,enum=counts,enum=none,description=Comparison inside the write pause"`
	HandoverURL     string            `yaml:"handover_url,omitempty" jsonschema:"description=Webhook called at hand-over"`
	HandoverCommand string            `yaml:"handover_command,omitempty" jsonschema:"description=Command run by the service at hand-over; needs the admin role"`
	NonEmptyTarget  string            `yaml:"non_empty_target,omitempty" jsonschema:"enum=refuse,enum=keep,enum=empty,enum=replace,description=What becomes of target tables that hold rows"`
	LeastLanes      int               `yaml:"least_lanes,omitempty" jsonschema:"minimum=0,maximum=64,description=The number of lanes is found between this and lanes; 0 for always that many"`
	RowLimit        int64             `yaml:"row_limit,omitempty" jsonschema:"minimum=0,description=Rows per second of a process's lanes; 0 for none"`
	SourceShare     float64           `yaml:"source_share,omitempty" jsonschema:"minimum=0,maximum=1,description=Share of its time for which a lane may be reading; 0 or 1 for all of it"`
	QuietHours      []string          `yaml:"quiet_hours,omitempty" jsonschema:"description=When the load holds back: mon-fri 08:00-18:00"`
	QuietZone       string            `yaml:"quiet_zone,omitempty" jsonschema:"description=Time zone of quiet_hours by its IANA name (default: UTC)"`
	QuietSpeed      Size              `yaml:"quiet_speed,omitempty" jsonschema:"description=Bytes per second in quiet hours; 0 lets no chunk begin in them"`
	BadRows         string            `yaml:"bad_rows,omitempty" jsonschema:"enum=hold,enum=set aside,description=What becomes of a row that the target cannot take"`
	BadRowsLimit    int               `yaml:"bad_rows_limit,omitempty" jsonschema:"minimum=1,maximum=1000000,description=Rows of a table set aside before it is held"`
	BuildLanes      int               `yaml:"build_lanes,omitempty" jsonschema:"minimum=1,maximum=32,description=Keys and indexes built at once on the target"`
	LagLimit        time.Duration     `yaml:"lag_limit,omitempty" jsonschema:"description=Lag above which people are told; 0 for none"`
	WorkerLabel     string            `yaml:"worker_label,omitempty" jsonschema:"description=Only workers started with this label carry its chunks"`
	Repeat          string            `yaml:"repeat,omitempty" jsonschema:"enum=empty first,enum=in place,description=How a load that is done again brings its rows"`
	ColumnChanges   string            `yaml:"column_changes,omitempty" jsonschema:"enum=hold,enum=carry,description=What becomes of a change of a table's columns on the source"`
	RetainedLimit   Size              `yaml:"retained_limit,omitempty" jsonschema:"description=Log that the source may keep for the crossing; 0 for any"`
	RetainedOver    string            `yaml:"retained_over,omitempty" jsonschema:"enum=go on,enum=release,description=What becomes of the crossing above it: people are told\\, or the log is released and the crossing held"`
	StopAt          string            `yaml:"stop_at,omitempty" jsonschema:"description=Capture stops before what was committed at this time (RFC 3339) or log position"`
	StartFrom       string            `yaml:"start_from,omitempty" jsonschema:"description=Kind capture: log position or GTID from which changes are wanted; empty: from now"`
	Slot            string            `yaml:"slot,omitempty" jsonschema:"description=Kind capture: a replication slot that stands on a PostgreSQL source"`
	HoldPoints      []domain.StepName `yaml:"hold_points,omitempty" jsonschema:"description=Steps of a cutover before which it waits for a person: stop writes; close source"`
}

// Size is a number of bytes, written as a number or with a unit: kB, MB, GB, TB are powers
// of 1,000 and KiB, MiB, GiB, TiB powers of 1,024.
type Size int64

// units are those of sizes, with how many bytes each is.
var units = []struct {
	name  string
	bytes int64
}{{"TiB", 1 << 40}, {"TB", 1e12}, {"GiB", 1 << 30}, {"GB", 1e9}, {"MiB", 1 << 20}, {"MB", 1e6}, {"KiB", 1 << 10}, {"kB", 1e3}}

var sizeForm = regexp.MustCompile(`^([0-9]+)\s*([A-Za-z]*)$`)

// ParseSize reads a size such as 64MB.
func ParseSize(s string) (int64, error) {
	m := sizeForm.FindStringSubmatch(strings.TrimSpace(s))
	unit := int64(0)
	if m != nil {
		if m[2] == "" || strings.EqualFold(m[2], "B") {
			unit = 1
		}
		for _, u := range units {
			if strings.EqualFold(m[2], u.name) || strings.EqualFold(m[2]+"B", u.name) {
				unit = u.bytes
			}
		}
	}
	if unit == 0 {
		return 0, domain.Invalid("%q is no size; write it like 64MB (64,000,000 bytes) or 64MiB (67,108,864 bytes)", s)
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	if err != nil || n > math.MaxInt64/unit {
		return 0, domain.Invalid("%q is too large a size", s)
	}
	return n * unit, nil
}

// UnmarshalYAML implements the YAML library's decoder.
func (z *Size) UnmarshalYAML(b []byte) error {
	n, err := ParseSize(strings.Trim(strings.TrimSpace(string(b)), `"'`))
	*z = Size(n)
	return err
}

// MarshalYAML implements the YAML library's encoder.
func (z Size) MarshalYAML() ([]byte, error) { return []byte(z.String()), nil }

// String writes a size in the largest unit that fits exactly.
func (z Size) String() string {
	for _, u := range units {
		if z > 0 && int64(z)%u.bytes == 0 {
			return fmt.Sprintf("%d%s", int64(z)/u.bytes, u.name)
		}
	}
	return strconv.FormatInt(int64(z), 10)
}

// Parse reads a manifest.
func Parse(text []byte) (*File, error) {
	var f File
	if err := decode("the manifest", text, &f); err != nil {
		return nil, err
	}
	if f.Version != Version {
		return nil, domain.Invalid("the manifest must begin with \"dusty_ferry: %d\"; it says %d", Version, f.Version)
	}
	for _, need := range []struct{ key, value string }{{"name", f.Crossing.Name}, {"source", f.Crossing.Source}, {"target", f.Crossing.Target}} {
		if need.value == "" {
			return nil, domain.Invalid("the manifest lacks crossing.%s", need.key)
		}
	}
	return &f, nil
}

// Plan is how a file says what is planned for a crossing that is there already.
type Plan struct {
	Tables          []string      `yaml:"tables,omitempty"`
	Rules           []domain.Rule `yaml:"rules,omitempty"`
	domain.Planning `yaml:",inline"`
}

// ParsePlan reads what is planned, as a manifest has it under crossing.
func ParsePlan(text []byte) (*Plan, error) {
	var p Plan
	if err := decode("the file", text, &p); err != nil {
		return nil, err
	}
	if err := domain.ValidRules(p.Rules); err != nil {
		return nil, err
	}
	return &p, p.Validate()
}

// House is what holds for all crossings.
type House = domain.House

// ParseHouse reads what holds for all crossings.
func ParseHouse(text []byte) (*House, error) {
	var h House
	if err := decode("the file", text, &h); err != nil {
		return nil, err
	}
	return &h, h.Validate()
}

// ParseRules reads a list of rules, as a manifest has it under crossing.rules.
func ParseRules(text []byte) ([]domain.Rule, error) {
	var list []domain.Rule
	if err := decode("the file", text, &list); err != nil {
		return nil, err
	}
	return list, domain.ValidRules(list)
}

// Bounds of a text that may come from anybody: its bytes, how deep its values may nest, and
// how long it may take to read. YAML's names for values elsewhere in the text (anchors and
// aliases) are refused, as a few of them make a text of any size.
const (
	largestText = 1 << 20
	deepest     = 20
	longestRead = 5 * time.Second
)

// decode reads YAML strictly; what names the text in errors.
func decode(what string, text []byte, to any) error {
	if len(text) > largestText {
		return domain.Invalid("%s has %d bytes; %d may be", what, len(text), largestText)
	}
	read := make(chan error, 1)
	go func() {
		defer func() {
			if r := recover(); r != nil {
				read <- domain.Invalid("%s cannot be read: its form is broken", what)
			}
		}()
		if err := bounded(what, text); err != nil {
			read <- err
			return
		}
		read <- parse(what, text, to)
	}()
	select {
	case err := <-read:
		return err
	case <-time.After(longestRead):
		return domain.Invalid("%s takes longer than %s to read; write it plainly", what, longestRead)
	}
}

// bounded looks at the words of a text before values are made of them.
func bounded(what string, text []byte) error {
	depth := 0
	indents := []int{}
	line := 0
	for _, t := range lexer.Tokenize(string(text)) {
		at := func(why string) error {
			return domain.Invalid("%s is wrong at line %d, column %d: %s", what, t.Position.Line, t.Position.Column, why)
		}
		switch t.Type {
		case token.AnchorType, token.AliasType, token.MergeKeyType:
			return at("names for values elsewhere in the text (&, *, <<) are not taken; write the value where it belongs")
		case token.TagType:
			return at("tags (!) are not taken")
		case token.MappingStartType, token.SequenceStartType:
			depth++
		case token.MappingEndType, token.SequenceEndType:
			depth--
		}
		if depth == 0 && (t.Position.Line != line || t.Type == token.SequenceEntryType) {
			line = t.Position.Line
			for len(indents) > 0 && indents[len(indents)-1] >= t.Position.Column {
				indents = indents[:len(indents)-1]
			}
			indents = append(indents, t.Position.Column)
		}
		if depth+len(indents) > deepest {
			return at(fmt.Sprintf("values nest deeper than %d", deepest))
		}
	}
	return nil
}

func parse(what string, text []byte, to any) error {
	err := yaml.NewDecoder(bytes.NewReader(text), yaml.Strict()).Decode(to)
	if err == nil {
		return nil
	}
	var ye yaml.Error
	if errors.As(err, &ye) && ye.GetToken() != nil && ye.GetToken().Position != nil {
		p := ye.GetToken().Position
		return domain.Invalid("%s is wrong at line %d, column %d: %s", what, p.Line, p.Column, ye.GetMessage())
	}
	return domain.Invalid("%s cannot be read: %s", what, strings.SplitN(err.Error(), "\n", 2)[0])
}

// Domain returns the settings as the rest of the code knows them, zero where the
// manifest says nothing.
func (s Settings) Domain() domain.Settings {
	return domain.Settings{Lanes: s.Lanes, ChunkBytes: int64(s.ChunkSize), MaxAttempts: s.MaxAttempts, SpeedLimit: int64(s.SpeedLimit),
		BatchChanges: s.BatchChanges, InStepLag: s.InStepLag, InStepDwell: s.InStepDwell, PauseBudget: s.PauseBudget, StopMethod: s.StopMethod,
		CutoverDepth: s.CutoverDepth, HandoverURL: s.HandoverURL, HandoverCommand: s.HandoverCommand, NonEmptyTarget: s.NonEmptyTarget, HoldPoints: s.HoldPoints,
		LeastLanes: s.LeastLanes, RowLimit: s.RowLimit, SourceShare: s.SourceShare, QuietHours: s.QuietHours, QuietZone: s.QuietZone, QuietSpeed: int64(s.QuietSpeed),
		BadRows: s.BadRows, BadRowsLimit: s.BadRowsLimit, BuildLanes: s.BuildLanes, LagLimit: s.LagLimit, WorkerLabel: s.WorkerLabel,
		Repeat: s.Repeat, ColumnChanges: s.ColumnChanges, RetainedLimit: int64(s.RetainedLimit), RetainedOver: s.RetainedOver, StopAt: s.StopAt, StartFrom: s.StartFrom, Slot: s.Slot}
}

// Write returns a crossing as a manifest.
func Write(c *domain.Crossing) ([]byte, error) {
	s := c.Settings
	return yaml.Marshal(File{Version: Version, Crossing: Crossing{
		Name: c.Name, Kind: c.Kind, Source: c.Source, Target: c.Target, Tables: c.Patterns, Rules: c.Rules,
		Queries: c.Planning.Queries, Parameters: c.Planning.Parameters, Before: c.Planning.Before, After: c.Planning.After, Carry: c.Planning.Carry,
		Settings: Settings{Lanes: s.Lanes, ChunkSize: Size(s.ChunkBytes), MaxAttempts: s.MaxAttempts, SpeedLimit: Size(s.SpeedLimit),
			BatchChanges: s.BatchChanges, InStepLag: s.InStepLag, InStepDwell: s.InStepDwell, PauseBudget: s.PauseBudget, StopMethod: s.StopMethod,
			CutoverDepth: s.CutoverDepth, HandoverURL: s.HandoverURL, HandoverCommand: s.HandoverCommand, NonEmptyTarget: s.NonEmptyTarget, HoldPoints: s.HoldPoints,
			LeastLanes: s.LeastLanes, RowLimit: s.RowLimit, SourceShare: s.SourceShare, QuietHours: s.QuietHours, QuietZone: s.QuietZone, QuietSpeed: Size(s.QuietSpeed),
			BadRows: s.BadRows, BadRowsLimit: s.BadRowsLimit, BuildLanes: s.BuildLanes, LagLimit: s.LagLimit, WorkerLabel: s.WorkerLabel,
			Repeat: s.Repeat, ColumnChanges: s.ColumnChanges, RetainedLimit: Size(s.RetainedLimit), RetainedOver: s.RetainedOver, StopAt: s.StopAt, StartFrom: s.StartFrom, Slot: s.Slot},
	}})
}
