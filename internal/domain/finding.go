package domain

// FindingKind says how source and target differ at one row.
type FindingKind string

// The kinds of finding.
const (
	MissingOnTarget FindingKind = "missing on target"
	ExtraOnTarget   FindingKind = "extra on target"
	Differing       FindingKind = "differing"
)

// Finding is one difference found by a reconciliation, with both rows in text
// form. A nil pointer is NULL.
type Finding struct {
	Kind    FindingKind        `json:"kind"`
	Key     KeyValue           `json:"key"` // empty for a table without a key
	Source  map[string]*string `json:"source,omitempty"`
	Target  map[string]*string `json:"target,omitempty"`
	Columns []string           `json:"columns,omitempty"` // the differing columns
	Copies  int                `json:"copies,omitempty"`  // tables without a key: how many too many or too few
	Place   string             `json:"place,omitempty"`   // tables without a key: the row's hash, by which it is found again
}
