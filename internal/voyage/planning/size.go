package planning

import (
	"dustyferry/internal/domain"
	"fmt"
	"time"
)

// assumedRate is what a lane is assumed to carry before anything was measured.
const assumedRate = 40 << 20

func sizeEntry(plans []domain.TablePlan, s domain.Settings) domain.Entry {
	var bytes int64
	for _, p := range plans {
		bytes += p.Table.Bytes
	}
	took, rate := loadTime(bytes, s)
	return sizes(plans, fmt.Sprintf("at an assumed %.1f MB/s (nothing was measured yet) the load takes about %s",
		float64(rate)/1e6, max(took, time.Second)))
}

// sizes says how much there is to carry, and what follows from it.
func sizes(plans []domain.TablePlan, so string) domain.Entry {
	var rows, bytes int64
	for _, p := range plans {
		rows += max(0, p.Table.Rows)
		bytes += p.Table.Bytes
	}
	return domain.Entry{Verdict: domain.OK, Topic: topicSize, Subject: "crossing",
		Measured: fmt.Sprintf("%s, about %s and %.1f MB; %s", domain.Many(len(plans), "table"), domain.Many(rows, "row"),
			float64(bytes)/1e6, so)}
}

// longRead is for how long changes may wait for one read before a person is told of it.
const longRead = 20 * time.Second

// oneChunkEntries tell of tables that cannot be cut and take long to read: the changes of
// all tables wait for as long.
func oneChunkEntries(c *domain.Crossing, plans []domain.TablePlan) []domain.Entry {
	if c.Kind != domain.KindLoadCapture {
		return nil
	}
	set := c.Settings
	set.Lanes = 1
	var out []domain.Entry
	for i := range plans {
		p := &plans[i]
		took, rate := loadTime(p.Table.Bytes, set)
		if p.Splittable() || took < longRead {
			continue
		}
		out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "one chunk", Subject: p.Source.String(),
			Measured: fmt.Sprintf("its %.1f MB cannot be cut: while they are read, about %s at %.1f MB/s, changes wait, and "+
				"the source keeps the log that is written meanwhile", float64(p.Table.Bytes)/1e6, took, float64(rate)/1e6),
			Remedy: "give it a primary key on the source, or start when little is written; it is read before tables " +
				"that can be cut"})
	}
	return out
}

// loadTime reckons how long a load takes, and the rate that was assumed.
func loadTime(bytes int64, s domain.Settings) (time.Duration, int64) {
	rate := int64(assumedRate) * int64(min(s.Lanes, 4))
	if s.SpeedLimit > 0 {
		rate = min(rate, s.SpeedLimit)
	}
	return time.Duration(bytes/rate) * time.Second, rate
}
