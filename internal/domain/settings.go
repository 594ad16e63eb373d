package domain

import (
	"encoding/json"
	"slices"
	"time"
)

// Settings are a crossing's own choices. What each of them is called, may be and does stands
// in [SettingsList].
type Settings struct {
	Lanes           int           `json:"lanes"`
	ChunkBytes      int64         `json:"chunk_bytes"`
	MaxAttempts     int           `json:"max_attempts"`
	SpeedLimit      int64         `json:"speed_limit"` // bytes/s, over all lanes of a process
	BatchChanges    int           `json:"batch_changes"`
	InStepLag       time.Duration `json:"in_step_lag"`
	InStepDwell     time.Duration `json:"in_step_dwell"`
	PauseBudget     time.Duration `json:"pause_budget"`
	StopMethod      StopMethod    `json:"stop_method"`
	CutoverDepth    Depth         `json:"cutover_depth"`
	VouchEvery      time.Duration `json:"vouch_every"`
	HashBy          string        `json:"hash_by"`
	GuardTarget     string        `json:"guard_target"`
	ReturnPath      string        `json:"return_path"`
	HandoverURL     string        `json:"handover_url"`
	HandoverCommand string        `json:"handover_command"`
	ExistingRows    string        `json:"non_empty_target"` // as records of before have it
	FileFormat      string        `json:"file_format"`
	HoldPoints      []StepName    `json:"hold_points"`
	SecondPerson    string        `json:"second_person"`
	GatewayPatience time.Duration `json:"gateway_patience"`

	LeastLanes   int           `json:"least_lanes"`
	RowLimit     int64         `json:"row_limit"` // rows/s, over all lanes of a process
	SourceShare  float64       `json:"source_share"`
	QuietHours   []string      `json:"quiet_hours"` // see [ParseHours]
	QuietZone    string        `json:"quiet_zone"`
	QuietSpeed   int64         `json:"quiet_speed"` // bytes/s
	BadRows      string        `json:"bad_rows"`
	BadRowsLimit int           `json:"bad_rows_limit"`
	BuildLanes   int           `json:"build_lanes"`
	ReadOrder    string        `json:"read_order"`
	LagLimit     time.Duration `json:"lag_limit"`
	WorkerLabel  string        `json:"worker_label"`

	Repeat        string `json:"repeat"`
	ColumnChanges string `json:"column_changes"`
	RetainedLimit int64  `json:"retained_limit"` // bytes
	RetainedOver  string `json:"retained_over"`
	StopAt        string `json:"stop_at"`
	StartFrom     string `json:"start_from"`
	Slot          string `json:"slot"`
}

// DefaultSettings returns the choices used where a person made none.
func DefaultSettings() Settings {
	var s Settings
	for _, d := range SettingsList() {
		if d.Default != nil {
			d.put(&s, d.Default)
		}
	}
	return s
}

// UnmarshalJSON reads settings of the record, which may be from before some of them were.
func (s *Settings) UnmarshalJSON(text []byte) error {
	type plain Settings
	p := plain(DefaultSettings())
	err := json.Unmarshal(text, &p)
	*s = Settings(p)
	return err
}

// Validate says in one sentence what is wrong with the settings, or nil.
func (s Settings) Validate() error {
	for _, d := range SettingsList() {
		if err := d.valid(d.Value(s)); err != nil {
			return err
		}
	}
	if s.LeastLanes > s.Lanes {
		return Invalid("least_lanes is %d; give a number from 1 to lanes, which is %d, or 0 for always that many",
			s.LeastLanes, s.Lanes)
	}
	return nil
}

// Given are settings that somebody gave, by their keys; all others are left as they are. An
// explicit 0 or empty text is given too.
type Given map[string]any

// Over lays what was given over settings.
func (g Given) Over(s Settings) Settings {
	for _, d := range SettingsList() {
		if v, ok := g[d.Key]; ok {
			d.put(&s, v)
		}
	}
	return s
}

// Stated are the settings that a file has to name so that it means the same where other
// defaults hold: all but those that are off, as they are by default.
func (s Settings) Stated() Given {
	g := Given{}
	for _, d := range SettingsList() {
		if d.Default != nil || !d.field(&s).IsZero() {
			g[d.Key] = d.Value(s)
		}
	}
	return g
}

// JSON are the settings by their names in requests and answers.
func (g Given) JSON() map[string]any {
	out := map[string]any{}
	for _, d := range SettingsList() {
		if v, ok := g[d.Key]; ok {
			out[d.Property()] = d.JSON(v)
		}
	}
	return out
}

// GivenJSON reads what [Given.JSON] makes, after it has been text. Settings that there are
// none of are left to whoever holds requests against the contract.
func GivenJSON(from map[string]any) (Given, error) {
	g := Given{}
	for _, d := range SettingsList() {
		raw, ok := from[d.Property()]
		if !ok || raw == nil {
			continue
		}
		v, err := d.FromJSON(raw)
		if err != nil {
			return nil, err
		}
		g[d.Key] = v
	}
	return g, nil
}

// WithoutSecrets is without those that may hold passwords.
func (s Settings) WithoutSecrets() Settings {
	for _, d := range SettingsList() {
		if d.Secret {
			d.field(&s).SetZero()
		}
	}
	return s
}

// All are all settings.
func (s Settings) All() Given {
	g := Given{}
	for _, d := range SettingsList() {
		g[d.Key] = d.Value(s)
	}
	return g
}

// SettingFor returns the setting of a key, or of one by which it was known before.
func SettingFor(key string) (Setting, bool) {
	list := SettingsList()
	at := slices.IndexFunc(list, func(d Setting) bool { return d.Key == key || slices.Contains(d.Was, key) })
	if at < 0 {
		return Setting{}, false
	}
	return list[at], true
}

// Who hashes rows for a comparison, as HashBy says.
const (
	HashByFaster  = "faster"
	HashByService = "service"
	HashByServers = "servers"
)

// GuardRefuse is the GuardTarget by which the target's tables refuse writes of others.
const GuardRefuse = "refuse"

// ReturnOpen is the ReturnPath by which a cutover opens a way back.
const ReturnOpen = "open"

// SecondYes is the SecondPerson by which nobody cuts over alone.
const SecondYes = "yes"

// HoldPointsOf are the steps before which a cutover waits for a person: those that are set, and where
// another person has to agree and none is set, the first that anybody notices.
func (s Settings) HoldPointsOf(rehearsal bool) []StepName {
	if s.SecondPerson == SecondYes && !rehearsal && len(s.HoldPoints) == 0 {
		return []StepName{StepStopWrites}
	}
	return s.HoldPoints
}
