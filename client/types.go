package client

import "dustyferry/internal/contract"

// The types of requests and answers, as the OpenAPI document has them.
type (
	// Crossing is a set of tables on its way from one database to another.
	Crossing = contract.Crossing
	// NewCrossing is what makes a draft of one.
	NewCrossing = contract.NewCrossing
	// Settings are a crossing's choices; docs/settings.md lists them. Only those given are sent.
	Settings = contract.Settings
	// Setting describes one of them.
	Setting = contract.Setting
	// Rule changes the plans of the tables that it matches.
	Rule = contract.Rule
	// Planning is what is planned beside tables and their rules.
	Planning = contract.Planning
	// Progress is how far a crossing is.
	Progress = contract.Progress
	// Table is one table of a crossing, Chunk one part of its rows.
	Table = contract.Table
	Chunk = contract.Chunk
	// Database is a registered server, NewDatabase what registers one.
	Database    = contract.Database
	NewDatabase = contract.NewDatabase
	// Entry is one line of a survey or readiness list, with its Verdict.
	Entry   = contract.Entry
	Verdict = contract.Verdict
	// Reconciliation compares both sides, and NewReconciliation asks for it; a Finding is a row
	// that differs.
	Reconciliation    = contract.Reconciliation
	NewReconciliation = contract.NewReconciliation
	Finding           = contract.Finding
	// Cutover hands over to the target, and NewCutover asks for it; its parts are steps.
	Cutover     = contract.Cutover
	NewCutover  = contract.NewCutover
	CutoverStep = contract.CutoverStep
	// Task is a longer piece of work on a crossing.
	Task = contract.Task
	// JournalEntry is who did what when.
	JournalEntry = contract.JournalEntry
)

// The verdicts of entries.
const (
	Blocker = contract.Blocker // nothing goes on until it is resolved
	Notice  = contract.Notice
	OK      = contract.Ok
)
