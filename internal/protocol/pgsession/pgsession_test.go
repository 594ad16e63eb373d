package pgsession

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
)

// msg is a message of a kind.
func msg(kind byte, body string) []byte {
	out := binary.BigEndian.AppendUint32([]byte{kind}, uint32(4+len(body)))
	return append(out, body...)
}

// say is what an end says: > the client, < the server.
type say struct {
	from byte
	what []byte
}

func says(from byte, all ...[]byte) say { return say{from, bytes.Join(all, nil)} }

var signIn = []say{
	says('<', msg('R', "\x00\x00\x00\x0amech\x00\x00")), says('>', msg('p', "proof")),
	says('<', msg('R', "\x00\x00\x00\x00"), msg('S', "TimeZone\x00UTC\x00"), msg('K', "\x00\x00\x00\x07secr"), msg('Z',
		"I")),
}

func TestWhereASessionStands(t *testing.T) {
	for name, c := range map[string]struct {
		say         []say
		rests, open bool
		signedIn    bool
		unsaidTwice bool
	}{
		"nothing said":      {nil, false, true, false, false},
		"signing in":        {signIn[:2], false, true, false, false},
		"signed in":         {signIn, true, false, true, false},
		"a query under way": {append(signIn[:3:3], says('>', msg('Q', "SELECT 1\x00"))), false, false, true, false},
		"a query answered": {append(signIn[:3:3], says('>', msg('Q', "x\x00")), says('<', msg('D', "row"), msg('C',
			"c\x00"), msg('Z', "I"))), true, false, true, false},
		"a transaction open": {append(signIn[:3:3], says('>', msg('Q', "BEGIN\x00")), says('<', msg('C', "BEGIN\x00"),
			msg('Z', "T"))), true, true, true, false},
		"a transaction failed": {append(signIn[:3:3], says('>', msg('Q', "x\x00")), says('<', msg('E', "e\x00"), msg('Z',
			"E"))), true, true, true, false},
		"half a message": {append(signIn[:3:3], says('>', msg('Q', "SELECT 1\x00")[:3])), false, false, true, false},
		"half an answer": {append(signIn[:3:3], says('>', msg('Q', "x\x00")), says('<', msg('Z', "I")[:5])), false,
			false, true, false},
		"parsed and not synced": {append(signIn[:3:3], says('>', msg('P', "a\x00b\x00\x00\x00"), msg('H', "")), says('<',
			msg('1', ""))), false, false, true, false},
		"synced": {append(signIn[:3:3], says('>', msg('P', "p"), msg('B', "b"), msg('E', "e"), msg('S', "")),
			says('<', msg('Z', "I"))), true, false, true, false},
		"two queries, one answer": {append(signIn[:3:3], says('>', msg('Q', "a\x00"), msg('Q', "b\x00")), says('<', msg('Z',
			"I"))), false, false, true, false},
		"a notice unasked": {append(signIn[:3:3], says('<', msg('A', "x\x00"), msg('N', "n\x00"))), true, false, true,
			false},
		"copying in": {append(signIn[:3:3], says('>', msg('Q', "COPY\x00")), says('<', msg('G', "\x00\x00\x00")),
			says('>', msg('d', "1\n"))), false, false, true, false},
		"copied in": {append(signIn[:3:3], says('>', msg('Q', "COPY\x00")), says('<', msg('G', "\x00")),
			says('>', msg('d', "1\n"), msg('c', "")), says('<', msg('C', "COPY 1\x00"), msg('Z',
				"I"))), true, false, true, false},
		"unasked and ready": {append(signIn[:3:3], says('<', msg('Z', "I"))), false, false, true, false},
		"another protocol":  {append(signIn[:3:3], says('<', []byte{'Z', 0, 0, 0, 1, 'I'})), false, false, true, false},
	} {
		for range 20 { // in pieces of any size
			var s Session
			for _, x := range c.say {
				for p := x.what; len(p) > 0; {
					n := 1 + rand.IntN(len(p))
					if x.from == '>' {
						s.FromClient(p[:n])
					} else {
						s.FromServer(p[:n])
					}
					p = p[n:]
				}
			}
			if s.Rests() != c.rests || s.InTransaction() != c.open || s.SignedIn() != c.signedIn {
				t.Fatalf("%s: rests %v, transaction %v, signed in %v", name, s.Rests(), s.InTransaction(), s.SignedIn())
			}
			if s.SignedIn() && string(s.Key()) != "\x00\x00\x00\x07secr" {
				t.Errorf("%s: the key is %q", name, s.Key())
			}
		}
	}
}

func start(params ...string) []byte {
	body := binary.BigEndian.AppendUint32(nil, version3)
	for _, p := range params {
		body = append(append(body, p...), 0)
	}
	body = append(body, 0)
	return append(binary.BigEndian.AppendUint32(nil, uint32(4+len(body))), body...)
}

func TestTheStartMessage(t *testing.T) {
	s, err := ReadStart(bytes.NewReader(start("user", "kea", "database", "old", "application_name", "till")))
	if err != nil || s.Database() != "old" || s.Param("user") != "kea" || s.Param("replication") != "" {
		t.Fatalf("%+v, %v", s, err)
	}
	again, err := ReadStart(bytes.NewReader(s.For("new")))
	if err != nil || again.Database() != "new" || again.Param("application_name") != "till" {
		t.Errorf("%+v, %v", again, err)
	}
	if s, err := ReadStart(bytes.NewReader(start("user", "kea"))); err != nil || s.Database() != "kea" {
		t.Errorf("without a database: %+v, %v", s, err)
	}
	if s, err := ReadStart(bytes.NewReader(AskTLS())); err != nil || !s.TLS {
		t.Errorf("asking for TLS: %+v, %v", s, err)
	}
	if s, err := ReadStart(bytes.NewReader(CancelFor([]byte("\x00\x00\x00\x07secr")))); err != nil ||
		string(s.Cancel) != "\x00\x00\x00\x07secr" {
		t.Errorf("cancelling: %+v, %v", s, err)
	}
	for name, b := range map[string][]byte{"HTTP": []byte("GET / HTTP/1.1\r\n\r\n"), "short": {0, 0, 0, 4, 0, 0, 0, 0},
		"long": {0, 1, 0, 0, 0, 3, 0, 0}, "version 2": {0, 0, 0, 8, 0, 2, 0, 0}, "no end": append([]byte{0, 0, 0, 12, 0, 3, 0,
			0}, "user"...)} {
		if _, err := ReadStart(bytes.NewReader(b)); !errors.Is(err, ErrNotStart) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if f := string(Fatal(AdminShutdown, "gone")); f[0] != 'E' || !strings.Contains(f, "C57P01\x00Mgone\x00\x00") ||
		int(binary.BigEndian.Uint32([]byte(f[1:5]))) != len(f)-1 {
		t.Errorf("%q", f)
	}
}

func FuzzSession(f *testing.F) {
	f.Add(msg('Q', "x\x00"), msg('Z', "I"))
	f.Fuzz(func(_ *testing.T, client, server []byte) {
		var s Session
		s.FromClient(client)
		s.FromServer(server)
		_, _ = s.Rests(), s.InTransaction()
		_, _ = ReadStart(bytes.NewReader(client))
	})
}
