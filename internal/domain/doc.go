// Package domain holds the nouns of a crossing: what a person asked for, what
// stands in the two databases, and what was done so far. It has no I/O, no
// clock and no SQL; every other package may import it and it imports none of
// them.
package domain
