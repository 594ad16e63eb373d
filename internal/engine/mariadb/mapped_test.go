package mariadb

import (
	"testing"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// TestMapsOfTheLog holds planned types against what a table map says.
func TestMapsOfTheLog(t *testing.T) {
	for _, c := range []struct {
		base, full string
		is         binlog.Column
		fits, old  bool
	}{
		{"int", "int(11)", binlog.Column{Type: binlog.ColLong}, true, false},
		{"int unsigned", "int(10) unsigned", binlog.Column{Type: binlog.ColLongLong}, false, false},
		{"decimal", "decimal(12,3)", binlog.Column{Type: binlog.ColNewDecimal, Meta: 12<<8 | 3}, true, false},
		{"decimal", "decimal(12,4)", binlog.Column{Type: binlog.ColNewDecimal, Meta: 12<<8 | 3}, false, false},
		{"bit", "bit(11)", binlog.Column{Type: binlog.ColBit, Meta: 1<<8 | 3}, true, false},
		{"bit", "bit(12)", binlog.Column{Type: binlog.ColBit, Meta: 1<<8 | 3}, false, false},
		{"datetime", "datetime(3)", binlog.Column{Type: binlog.ColDatetime2, Meta: 3}, true, false},
		{"datetime", "datetime(3)", binlog.Column{Type: binlog.ColDatetime2}, false, false},
		{"datetime", "datetime", binlog.Column{Type: binlog.ColDatetime}, true, false},
		{"datetime", "datetime(3)", binlog.Column{Type: binlog.ColDatetime}, true, true},
		{"varchar", "varchar(40)", binlog.Column{Type: binlog.ColVarchar, Meta: 160}, true, false},
		{"varchar", "varchar(40)", binlog.Column{Type: binlog.ColBlob, Meta: 4}, false, false},
		{"json", "json", binlog.Column{Type: binlog.ColBlob, Meta: 4}, true, false},
		{"text", "text", binlog.Column{Type: binlog.ColBlob, Meta: 4}, false, false},
		{"point", "point", binlog.Column{Type: binlog.ColGeometry, Meta: 4}, true, false},
	} {
		col := domain.Column{Name: "c", BaseType: c.base, Type: c.full}
		if fits, old := mapsAs(col, c.is), outdated(col, c.is); fits != c.fits || old != c.old {
			t.Errorf("%s in %+v: fits %t, in the old form %t", c.full, c.is, fits, old)
		}
	}
}
