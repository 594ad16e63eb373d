package postgres

import (
	"fmt"

	"dustyferry/internal/domain"
)

// What servers lack that are older than those we were made for.

// The oldest versions that a crossing may leave, and go to.
const (
	oldestSource = 11
	oldestTarget = 13
)

// partitionTree is a table expression of a partitioned table and everything below it, with
// relid, parentrelid, level and isleaf; the server's own function came with version 12.
func partitionTree(root string) string {
	return `(WITH RECURSIVE below AS (
         SELECT (` + root + `)::oid AS relid, NULL::oid AS parentrelid, 0 AS level
         UNION ALL SELECT h.inhrelid, h.inhparent, below.level + 1 FROM below JOIN pg_inherits h ON h.inhparent = below.relid)
       SELECT below.*, k.relkind <> 'p' AS isleaf FROM below JOIN pg_class k ON k.oid = below.relid)`
}

// snapshotFunction reads what a new statement sees; the older name gives the same text.
func (d *database) snapshotFunction() string {
	if d.major < 13 {
		return "txid_current_snapshot()"
	}
	return "pg_current_snapshot()"
}

// nextTransaction is the number that the next transaction gets, or one a little below.
func (d *database) nextTransaction() string {
	if d.major < 13 {
		return "txid_snapshot_xmax(txid_current_snapshot())"
	}
	return "pg_snapshot_xmax(pg_current_snapshot())"
}

// throughRoot reports whether changes of partitions can be published as those of their root.
func (d *database) throughRoot() bool { return d.major >= 13 }

// published lists the tables that stand in a publication for a plan: itself, or where the
// server cannot publish through a root its partitions.
func (d *database) published(p *domain.TablePlan) []domain.TableName {
	if d.throughRoot() || p.Table.PartitionBy == "" {
		return []domain.TableName{p.Source}
	}
	return leaves(p)
}

// leaves are the partitions that hold rows.
func leaves(p *domain.TablePlan) []domain.TableName {
	var out []domain.TableName
	for _, part := range p.Table.Partitions {
		if part.By == "" {
			out = append(out, part.Table)
		}
	}
	return out
}

// lacks says what an old source cannot do, as a survey's entries.
func (s server) lacks() []domain.Entry {
	var e entries
	major := s.num / 10000
	tell := func(below int, topic, format string, args ...any) {
		if major < below {
			e.add(domain.Notice, topic, "source", "", format, args...)
		}
	}
	tell(14, "large transactions", "PostgreSQL %d gives a transaction when it has ended, however large: those beyond "+
		"logical_decoding_work_mem are kept on the source's disk until then", major)
	tell(14, "marks in the log", "PostgreSQL %d does not pass marks of ours on: two crossings that write to each "+
		"other's source cannot tell their own rows", major)
	tell(13, "partitions", "PostgreSQL %d publishes partitions one by one: a new one is not followed, and one that is "+
		"emptied by itself cannot be told from its table; either holds the crossing, until the table is restarted", major)
	return e
}

// versionEntry says whether the server's version will do on a side.
func (s server) versionEntry(side string) []domain.Entry {
	var e entries
	oldest := map[string]int{"source": oldestSource, "target": oldestTarget}[side]
	if s.num/10000 < oldest {
		e.add(domain.Blocker, "version", side, fmt.Sprintf("use PostgreSQL %d or later", oldest),
			"the server is PostgreSQL %s; %d is the oldest that can be a %s", s.version, oldest, side)
	} else {
		e.add(domain.OK, "version", side, "", "PostgreSQL %s, %s", s.version, s.ssl)
	}
	return e
}
