package test

import (
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestADatabaseMovesHouse: address and sign-in are kept only once they were tried; a
// target must be the same one; and whoever follows it goes on in the new way.
func TestADatabaseMovesHouse(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.hives (id integer PRIMARY KEY, grams integer); INSERT INTO public.hives
  SELECT g, g FROM generate_series(1, 500) g; ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{LagLimitSeconds: ptr(3.0)}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	for want, args := range map[string][]string{
		"nothing is to be changed":             {"new"},
		"check the user name and the password": {"new", "--user", "nobody"},
		"the port is 70000":                    {"new", "--port", "70000"},
		"choose disable, prefer":               {"new", "--tls", "perhaps"},
		"no database named":                    {"barn", "--port", "1"},
		// same name, another server
		"nothing of it is found":  {"new", "--port", itoa(servers.source.Port), "--password"},
		"give the password again": {"new", "--port", itoa(servers.source.Port)},
	} {
		if strings.Contains(want, "nothing of it") {
			exec1(t, dbURL(servers.source, "postgres"), "CREATE DATABASE "+p.target)
		}
		a := f.cli(append([]string{"database", "change"}, args...)...)
		if a.code == 0 || !strings.Contains(a.err, want) {
			t.Errorf("%v: %+v", args, a)
		}
	}
	// The old user loses its way in; capture waits, and people are told of its lag.
	exec1(t, dbURL(servers.target, "postgres"),
		`CREATE ROLE mover SUPERUSER LOGIN PASSWORD 'honey & salt'; CREATE ROLE first SUPERUSER LOGIN PASSWORD 'honey & salt'`)
	if a := f.cli("database", "change", "new", "--user", "first"); a.code != 0 {
		t.Fatal(a.err)
	}
	exec1(t, dbURL(servers.target, "postgres"),
		`ALTER ROLE first NOLOGIN; SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '`+p.target+`'`)
	exec1(t, p.sourceURL(), `INSERT INTO public.hives VALUES (1000, 1)`)
	said := func(text string) func() bool {
		return func() bool {
			list, err := client.Do[[]contract.JournalEntry](f.API.ListJournalWithResponse(t.Context(),
				&contract.ListJournalParams{}))
			if err != nil {
				return false
			}
			for _, e := range list {
				if strings.Contains(e.Message, text) {
					return true
				}
			}
			return false
		}
	}
	eventually(t, 40*time.Second, said("over its limit of 3s"))
	if a := f.cli("database", "change", "new", "--user", "mover", "--password"); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("crossing", "resume", "spring"); a.code != 0 && !strings.Contains(a.err, "is running") {
		t.Fatal(a.err)
	}
	eventually(t, 40*time.Second, func() bool {
		return one[int](t, p.targetURL(), "SELECT count(*)::int FROM public.hives WHERE id = 1000") == 1
	})
	eventually(t, 40*time.Second, said("below its limit again"))
	sameEverywhere(t, p, "public")
}
