package typemap

// Dialect is what of an engine matters to those who plan, beside its types.
type Dialect struct {
	// Quote writes a name so that it is taken as it is.
	Quote func(name string) string
	// Backslash: a backslash in a text escapes what follows.
	Backslash bool
	// LogsByPlace: its log names a row's values by their places alone, and tells of statements.
	LogsByPlace bool
	// TellsRewrites: its catalogue says when all rows of a table were written anew.
	TellsRewrites bool
	// FoldsTables: a server of it may take capital and small letters in tables' names for the same.
	FoldsTables bool
	// Recollates: a column's collation can be other than its table was made with.
	Recollates bool
}

var dialects = map[string]Dialect{
	Postgres: {Quote: quoted, TellsRewrites: true},
	MariaDB:  {Quote: quotedIn, Backslash: true, LogsByPlace: true, FoldsTables: true, Recollates: true},
}

// DialectOf is the dialect of an engine; of one that is not known, standard SQL's.
func DialectOf(engine string) Dialect {
	if d, known := dialects[engine]; known {
		return d
	}
	return Dialect{Quote: quoted}
}
