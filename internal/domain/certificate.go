package domain

import "time"

// Certificate is the exported account of a closed crossing.
type Certificate struct {
	Crossing      string          `json:"crossing"`
	Kind          Kind            `json:"kind"`
	Source        CertifiedSide   `json:"source"`
	Target        CertifiedSide   `json:"target"`
	Phase         Phase           `json:"phase"` // at closing
	ClosedBy      string          `json:"closed_by"`
	CreatedAt     *time.Time      `json:"created_at"`
	StartedAt     *time.Time      `json:"started_at"`
	LandedAt      *time.Time      `json:"landed_at"`
	InStepAt      *time.Time      `json:"in_step_at"`
	CutOverAt     *time.Time      `json:"cut_over_at"`
	ClosedAt      *time.Time      `json:"closed_at"`
	StartPosition string          `json:"start_position"`
	RejectedRows  int             `json:"rejected_rows"`
	Rejected      []CertifiedRow  `json:"rejected"` // the first of them
	RowsCut       int             `json:"rows_cut"`
	Cut           []CertifiedRow  `json:"cut"`
	Comparison    *CertifiedProof `json:"reconciliation,omitempty"`
	Cutover       *CertifiedCut   `json:"cutover,omitempty"`
	// VouchedTo is the place in the source's log up to which rows that changes touched were compared,
	// and VouchedRows how many times one was; empty where they were not.
	VouchedTo   string `json:"vouched_to,omitempty"`
	VouchedRows int64  `json:"vouched_rows,omitempty"`
	// Findings is what the newest comparisons found, nil where no table was compared since it
	// was loaded last; NotCompared is how many tables were not.
	Findings    *int64           `json:"findings"`
	NotCompared int              `json:"tables_not_compared"`
	Tables      []CertifiedTable `json:"tables"`
	// JournalEntry is the number of the newest entry of the journal when the certificate was written, and
	// JournalCode what ties it to all before; see [core/chain].
	JournalEntry int64  `json:"journal_entry,omitempty"`
	JournalCode  string `json:"journal_code,omitempty"`
}

// CertifiedSide is one of a certificate's two databases.
type CertifiedSide struct {
	Name     string `json:"name"`
	Engine   string `json:"engine"`
	Host     string `json:"host"`
	Port     int    `json:"port"`
	Database string `json:"database"`
	User     string `json:"user"`
}

// CertifiedRow is a row that did not land, or landed cut.
type CertifiedRow struct {
	Table  string   `json:"table"`
	Key    []string `json:"key"`
	Column string   `json:"column"`
	Error  string   `json:"error"`
}

// CertifiedProof is the comparison that a cutover went by, or the newest.
type CertifiedProof struct {
	ID         int64           `json:"id"`
	Depth      Depth           `json:"depth"`
	State      ComparisonState `json:"state"`
	Tables     int             `json:"tables"`
	SourceRows int64           `json:"source_rows"`
	TargetRows int64           `json:"target_rows"`
	Findings   int64           `json:"findings"`
	Position   string          `json:"position"`
	EndedAt    *time.Time      `json:"ended_at"`
}

// CertifiedCut is the cutover.
type CertifiedCut struct {
	DecidedBy         string          `json:"decided_by"`
	At                *time.Time      `json:"at"`
	EndPosition       string          `json:"end_position"`
	WritePauseSeconds float64         `json:"write_pause_seconds"`
	Steps             []CertifiedStep `json:"steps"`
}

// CertifiedStep is one step of it.
type CertifiedStep struct {
	Step    StepName  `json:"step"`
	State   StepState `json:"state"`
	Note    string    `json:"note"`
	Seconds float64   `json:"seconds"`
}

// CertifiedTable is one table, with what its newest comparison since it was loaded last said;
// of one that was not compared those fields are nil or empty.
type CertifiedTable struct {
	Table          string     `json:"table"`
	Target         string     `json:"target"`
	RowsLoaded     int64      `json:"rows_loaded"`
	BytesLoaded    int64      `json:"bytes_loaded"`
	Chunks         int        `json:"chunks"`
	Inserts        int64      `json:"inserts"`
	Updates        int64      `json:"updates"`
	Deletes        int64      `json:"deletes"`
	Truncates      int64      `json:"truncates"`
	SourceRows     *int64     `json:"source_rows,omitempty"`
	TargetRows     *int64     `json:"target_rows,omitempty"`
	Findings       *int64     `json:"findings,omitempty"`
	FindingsMended *int64     `json:"findings_mended,omitempty"` // alike when they were compared again
	ComparedAt     *time.Time `json:"compared_at,omitempty"`
	ComparedBy     Depth      `json:"compared_by,omitempty"`
	Reconciliation int64      `json:"reconciliation,omitempty"`
	Position       string     `json:"position,omitempty"`
	SourceHash     string     `json:"source_hash,omitempty"` // empty: compared by counts only
	TargetHash     string     `json:"target_hash,omitempty"`
}

// Changes is how many changes were applied to the table.
func (t *CertifiedTable) Changes() int64 { return t.Inserts + t.Updates + t.Deletes }

// HideRows takes values of rows out of the account, for who may not see them.
func (c *Certificate) HideRows(hidden func(string) string) {
	for _, list := range [][]CertifiedRow{c.Rejected, c.Cut} {
		for i := range list {
			list[i].Key, list[i].Error = []string{"(hidden)"}, hidden(list[i].Error)
		}
	}
}
