package test

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// damages is how many rows of a target are damaged for each pair of engines.
var damages = flag.Int("damages", 40, "rows of the target that are damaged for each pair of engines")

// TestEveryDamageIsFound: what somebody does to rows of the target by plain SQL is found, by vouching where
// changes have touched the row since the last round, and by a comparison of everything otherwise; and
// nothing else is found. What is damaged both sides' rows say, by plain SQL.
func TestEveryDamageIsFound(t *testing.T) {
	for _, pair := range [][2]string{{"postgres", "postgres"}, {"mariadb", "mariadb"}, {"postgres", "mariadb"},
		{"mariadb", "postgres"}} {
		t.Run(pair[0]+" to "+pair[1], func(t *testing.T) { damaged(t, pair[0], pair[1]) })
	}
}

func damaged(t *testing.T, from, to string) {
	f := start(t)
	source, target := f.sideOf(from, "old"), f.sideOf(to, "new")
	there := "hives"
	if from == "mariadb" {
		defer source.exec("SET GLOBAL read_only = OFF")
		if to == "postgres" {
			there = source.schema + ".hives"
		}
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("the damages are drawn from %d", seed)
	rng := rand.New(rand.NewPCG(seed, 7))
	n := max(20**damages, 2000)
	source.exec("CREATE TABLE hives (id int PRIMARY KEY, name varchar(60), frames int NOT NULL, kg decimal(9, 3), note " +
		map[string]string{"postgres": "text", "mariadb": "longtext"}[from] + ")")
	source.exec("INSERT INTO hives SELECT seq, concat('hive ', seq), seq, seq / 8.0, CASE WHEN seq % 5 > 0 THEN " +
		"concat('seen ', seq) END FROM " + fmt.Sprintf(map[string]string{"postgres": "generate_series(1, %d) AS t(seq)",
		"mariadb": "seq_1_to_%d"}[from], n))
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new", Settings: &contract.Settings{
			InStepDwellSeconds: ptr(0.2), VouchEverySeconds: ptr(7200.0), ChunkBytes: ptr(int64(66000)),
			CutoverDepth: ptr(contract.SettingsCutoverDepthVouched)}})); err != nil {
		t.Fatal(err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.Findings != 0 {
		t.Fatalf("%d findings", r.Findings)
	}
	// Every other row that will be damaged is touched before, in the same second; so are others.
	ids := rng.Perm(n)[:2**damages]
	var touched []string
	for i, id := range ids {
		if ids[i]++; i%2 == 0 {
			touched = append(touched, fmt.Sprint(id+1))
		}
	}
	source.exec("UPDATE hives SET frames = frames + 1 WHERE id IN (" + strings.Join(touched, ", ") + ")")
	settle(t, f)
	rows := func(s side, table string) map[string]string {
		out := map[string]string{}
		for _, r := range s.texts("SELECT concat(id, '|', coalesce(name, '-'), '|', frames, '|', kg, '|', coalesce(note, " +
			"'-')) " +
			"FROM " + table) {
			id, rest, _ := strings.Cut(r, "|")
			out[id] = rest
		}
		return out
	}
	eventually(t, 30*time.Second, func() bool { return maps.Equal(rows(source, "hives"), rows(target, there)) })
	for i, id := range ids {
		if i >= 2**damages-*damages {
			break // damages are of the first half, of which every other was touched
		}
		where := fmt.Sprintf(" WHERE id = %d", id)
		sql := []string{"DELETE FROM " + there + where,
			"UPDATE " + there + " SET name = left(name, 3)" + where,
			"UPDATE " + there + " SET name = concat(name, ' ')" + where,
			"UPDATE " + there + " SET kg = kg + 0.001" + where,
			"UPDATE " + there + " SET note = CASE WHEN note IS NULL THEN '' END" + where,
			"UPDATE " + there + " SET frames = -frames" + where,
			fmt.Sprintf("UPDATE %s SET id = %d%s", there, 10*n+id, where),
			fmt.Sprintf("INSERT INTO %[1]s SELECT %[2]d, name, frames, kg, note FROM %[1]s%[3]s", there, 20*n+id, where),
		}[rng.IntN(8)]
		target.exec(sql)
	}
	a, b := rows(source, "hives"), rows(target, there)
	want := map[string]bool{}
	for id, row := range a {
		if b[id] != row {
			want[id] = true
		}
	}
	for id := range b {
		if _, is := a[id]; !is {
			want[id] = true
		}
	}
	// A rehearsal begins with a round of vouching, which finds those that were touched.
	if r := f.cli("cutover", "rehearse", "spring"); r.code == 0 {
		t.Fatalf("the rehearsal found nothing: %s", r.out)
	}
	vouched := f.foundKeys(f.comparisons()[0].Id)
	for _, id := range touched {
		if want[id] && !vouched[id] {
			t.Errorf("vouching missed row %s: the source has %q, the target %q", id, a[id], b[id])
		}
	}
	for id := range vouched {
		if !want[id] {
			t.Errorf("vouching found row %s, which is equal", id)
		}
	}
	r := f.reconcile(contract.NewReconciliationDepthHashes)
	if found := f.foundKeys(r.Id); !maps.Equal(found, want) {
		t.Errorf("of %d damaged rows the comparison found %d: %v", len(want), len(found),
			slices.Sorted(maps.Keys(want)))
	}
	t.Logf("%d rows damaged, %d of them touched; vouching found %d, the comparison %d", len(want), len(touched),
		len(vouched), r.Findings)
	f.must("repair", "spring", "--confirm", "spring")
	if a, b := rows(source, "hives"), rows(target, there); !maps.Equal(a, b) {
		t.Errorf("a repair left %d and %d rows unlike", len(a), len(b))
	}
}

// foundKeys are the keys of a comparison's findings.
func (f *ferry) foundKeys(id int64) map[string]bool {
	f.t.Helper()
	out := map[string]bool{}
	for offset := 0; ; offset += 500 {
		limit := 500
		page, err := client.Do[contract.FindingPage](f.API.ListFindingsWithResponse(f.t.Context(), "spring", id,
			&contract.ListFindingsParams{Limit: &limit, Offset: &offset}))
		if err != nil {
			f.t.Fatal(err)
		}
		for _, x := range page.Findings {
			out[strings.Join(x.Key, " ")] = true
		}
		if len(page.Findings) < limit {
			return out
		}
	}
}
