package domain

import "strings"

// TableName is a table's schema and name, as stored (not quoted).
type TableName struct {
	Schema string `json:"schema"`
	Name   string `json:"name"`
}

// Column is one column of a table.
type Column struct {
	Name      string `json:"name"`
	Type      string `json:"type"`                // the engine's own full spelling, such as numeric(10,2)
	BaseType  string `json:"base_type"`           // spelling without modifier, domains resolved
	NotNull   bool   `json:"not_null,omitempty"`  //
	Default   string `json:"default,omitempty"`   // expression, empty when none
	Identity  string `json:"identity,omitempty"`  // "", "always" or "by default"
	Counter   string `json:"counter,omitempty"`   // of an identity: the options of its sequence, in the engine's own words
	Generated bool   `json:"generated,omitempty"` // computed by the database; Default is its expression
	Computed  string `json:"computed,omitempty"`  // its expression, where its values can be read like others
	Stored    bool   `json:"stored,omitempty"`    // computed when the row is written, not when it is read
	OnUpdate  string `json:"on_update,omitempty"` // expression that a changed row gets, where the server has that
	Hidden    bool   `json:"hidden,omitempty"`    // SELECT * leaves it out
	Comment   string `json:"comment,omitempty"`
	Collation string `json:"collation,omitempty"` // only when it is not the type's own
	Charset   string `json:"charset,omitempty"`   // of texts, where the server has more than one
	ByteOrder bool   `json:"byte_order,omitempty"`
	// ByteOrder: text whose order on this server is provably that of its bytes.
	Wire string `json:"wire,omitempty"`
	// Wire is "portable" when the binary form means the same on every server of
	// the engine, "local" when it names objects by server-local numbers.
	Wide bool `json:"wide,omitempty"` // values may be stored out of line
	// Operators is the schema of the type's operators where it is not the system's own.
	Operators string `json:"operators,omitempty"`
	// Expression is what is read in place of the column, in the source's SQL.
	Expression string `json:"expression,omitempty"`
	// Number is the column's own, which stays with it whatever it is called, and is
	// given to no other; 0 where an engine has none.
	Number int `json:"number,omitempty"`
	// Fill is the value that rows have which are older than the column, as the server's
	// text; nil where nothing says so.
	Fill *string `json:"fill,omitempty"`
	// Mask names the key with which values are replaced by hashes; see [Runtime].
	Mask string `json:"mask,omitempty"`
	// Longest is how many bytes a value may have, 0 for any number. What is longer is
	// refused, or with Cut cut to it.
	Longest int64 `json:"longest,omitempty"`
	Cut     bool  `json:"cut,omitempty"`
	// Declared is what the column was declared as, where its type and whether it may be empty were found by what
	// it holds: these change with its rows, and the column stays what it is.
	Declared string `json:"declared,omitempty"`
	// Members are those of the set that a text on the target stands for, in the set's order. Applications
	// may write them there in any order, each as often as they like, and a comparison reads them in this one.
	Members []string `json:"members,omitempty"`
}

// Key is the set of columns that identify a row.
type Key struct {
	Columns []string `json:"columns"`
	Primary bool     `json:"primary"`
	Name    string   `json:"name"`
	Include []string `json:"include,omitempty"` // columns that its index carries along
}

// Index is a secondary index; Definition is the statement that makes it.
type Index struct {
	Name       string   `json:"name"`
	Unique     bool     `json:"unique"`
	Definition string   `json:"definition"`
	Columns    []string `json:"columns,omitempty"` // nil where an unlike target cannot have it, for the reason Why
	Why        string   `json:"why,omitempty"`
}

// Constraint is a check, unique, exclusion or foreign key constraint.
type Constraint struct {
	Name       string    `json:"name"`
	Kind       string    `json:"kind"` // check, unique, exclude, foreign
	Definition string    `json:"definition"`
	Of         string    `json:"of,omitempty"` // its name on the source, where a target gives it another
	References TableName `json:"references,omitzero"`
	// Of a foreign key, where an unlike target needs them.
	Columns          []string `json:"columns,omitempty"`
	ReferenceColumns []string `json:"reference_columns,omitempty"`
	Rules            string   `json:"rules,omitempty"` // ON DELETE …, ON UPDATE …
	// Unproved: rows that stand may break it (NOT VALID), so it is made after them, as such.
	Unproved bool `json:"unproved,omitempty"`
	// Unlogged: rows that it changes by itself are not in the source's log.
	Unlogged bool `json:"unlogged,omitempty"`
}

// RuleOn is what a foreign key does by itself on an event (DELETE, UPDATE): CASCADE, SET NULL;
// empty: nothing.
func (c *Constraint) RuleOn(event string) string {
	_, rest, ok := strings.Cut(c.Rules, " ON "+event+" ")
	if !ok {
		return ""
	}
	rest, _, _ = strings.Cut(rest, " ON ")
	return strings.TrimSpace(rest)
}

// Partition is one part of a partitioned table.
type Partition struct {
	Table  TableName `json:"table"`
	Parent TableName `json:"parent"`
	Bound  string    `json:"bound"`        // FOR VALUES …
	By     string    `json:"by,omitempty"` // set when it is itself partitioned
	// Identity is how the log identifies its rows, as the clause that sets it.
	Identity string `json:"identity,omitempty"`
}

// Sequence is a number generator of the source.
type Sequence struct {
	Name        TableName `json:"name"`
	Type        string    `json:"type"`
	Start       int64     `json:"start"`
	Increment   int64     `json:"increment"`
	Min         int64     `json:"min"`
	Max         int64     `json:"max"`
	Cycle       bool      `json:"cycle,omitempty"`
	OwnedBy     TableName `json:"owned_by,omitzero"`
	OwnedColumn string    `json:"owned_column,omitempty"`
	Identity    bool      `json:"identity,omitempty"`
	Cache       int64     `json:"cache,omitempty"` // numbers that a session takes at once
}

// Table is all that the catalog says about one table.
type Table struct {
	TableName
	Columns     []Column     `json:"columns"`
	Keys        []Key        `json:"keys"` // the primary key first, then unique keys without nullable columns
	Indexes     []Index      `json:"indexes"`
	Constraints []Constraint `json:"constraints"`
	PartitionBy string       `json:"partition_by,omitempty"`
	Partitions  []Partition  `json:"partitions,omitempty"`
	RowIdentity string       `json:"row_identity"` // primary, full, index, none: what the log says about old rows
	IdentityKey []string     `json:"identity_key,omitempty"`
	Rows        int64        `json:"rows"`  // estimate; -1 when never counted
	Bytes       int64        `json:"bytes"` // without indexes
	IndexBytes  int64        `json:"index_bytes"`
	Owned       bool         `json:"owned"`             // the connected role owns it
	Storage     string       `json:"storage,omitempty"` // the server's storage engine, where it has several
	Left        []string     `json:"left,omitempty"`    // of a target's side: what cannot be carried over, with the reason
	Comment     string       `json:"comment,omitempty"`
	Collation   string       `json:"collation,omitempty"` // of new columns, where tables have one
	// Written changes when the server writes all rows anew; empty where it does not tell.
	Written string `json:"written,omitempty"`
	// Needs are objects of a user's own that the table's definition refers to.
	Needs []Needed `json:"needs,omitempty"`
	// ID is the table itself, whatever it is called; another one of its name has another.
	// Empty where the server does not tell.
	ID string `json:"id,omitempty"`
	// Identity is how the log identifies rows of the table, or of the root of partitions, as
	// the clause that sets it; RowIdentity is what that means for all of its rows.
	Identity string `json:"identity,omitempty"`
}

// Needed is an object of a user's own that a table's definition refers to and that has to
// stand before the table.
type Needed struct {
	Kind       string `json:"kind"` // function or collation
	Name       string `json:"name"` // as the server writes it, with its schema
	Definition string `json:"definition"`
}

// PrimaryKey returns the primary key, or nil.
func (t *Table) PrimaryKey() *Key {
	for i := range t.Keys {
		if t.Keys[i].Primary {
			return &t.Keys[i]
		}
	}
	return nil
}

// Column returns the named column, or nil.
func (t *Table) Column(name string) *Column {
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i]
		}
	}
	return nil
}

// UserType is an enum, domain or composite type, with the statement that makes it.
type UserType struct {
	Name       TableName `json:"name"`
	Definition string    `json:"definition"`
}

// Catalog is what one database holds.
type Catalog struct {
	Tables     []Table    `json:"tables"`
	Sequences  []Sequence `json:"sequences"`
	Types      []UserType `json:"types"` // in an order in which they can be created
	Extensions []string   `json:"extensions"`
	// Places are the schemas that extensions are in, where they are not the usual one.
	Places map[string]string `json:"places,omitempty"`
	// Server tells the server from others whose log has other places; empty where
	// its log itself does.
	Server string `json:"server,omitempty"`
}

// Table returns the named table, or nil.
func (c *Catalog) Table(n TableName) *Table {
	for i := range c.Tables {
		if c.Tables[i].TableName == n {
			return &c.Tables[i]
		}
	}
	return nil
}
