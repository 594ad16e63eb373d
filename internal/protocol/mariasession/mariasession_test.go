package mariasession

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
)

// packet is one packet; numbers do not matter to who follows.
func packet(body ...byte) []byte { return Packet{1, body}.Bytes() }

func com(c byte, rest string) []byte { return packet(append([]byte{c}, rest...)...) }

func okay(status uint16) []byte {
	return packet(0, 1, 0xfc, 1, 2, byte(status), byte(status>>8), 0, 0)
}

func endOf(status uint16) []byte { return packet(0xfe, 0, 0, byte(status), byte(status>>8)) }

var (
	query  = com(3, "SELECT 1")
	column = packet(3, 'd', 'e', 'f', 0)
	row    = packet(1, '7')
	gone   = packet(0xff, 0x15, 0x04, '#', '4', '0', '0', '0', '1', 'x')
)

// say is what an end says: > the client, < the server.
type say struct {
	from byte
	what []byte
}

func says(from byte, all ...[]byte) say { return say{from, bytes.Join(all, nil)} }

func TestWhereASessionStands(t *testing.T) {
	in := []say{says('<', okay(2))}
	for name, c := range map[string]struct {
		say         []say
		rests, open bool
	}{
		"signing in": {nil, false, false},
		"another sign-in": {[]say{says('<', packet(0xfe, 'e', 'd')), says('>', packet(9, 9)), says('<', packet(1, 4))},
			false, false},
		"signed in":          {in, true, false},
		"a query under way":  {append(in[:1:1], says('>', query)), false, false},
		"changed rows":       {append(in[:1:1], says('>', query), says('<', okay(2))), true, false},
		"a transaction open": {append(in[:1:1], says('>', query), says('<', okay(3))), true, true},
		"open after an error": {append(in[:1:1], says('>', query), says('<', okay(3)), says('>', query), says('<', gone)),
			true, true},
		"ended": {append(in[:1:1], says('>', query), says('<', okay(3)), says('>', query), says('<',
			okay(2))), true, false},
		"columns, no end": {append(in[:1:1], says('>', query), says('<', packet(2), column, column)), false, false},
		"rows": {append(in[:1:1], says('>', query), says('<', packet(1), column, endOf(2), row, row)),
			false, false},
		"all rows": {append(in[:1:1], says('>', query), says('<', packet(1), column, endOf(3), row, row,
			endOf(3))), true, true},
		"an error amid rows": {append(in[:1:1], says('>', query), says('<', packet(1), column, endOf(2), row, gone)),
			true, false},
		"more results": {append(in[:1:1], says('>', query), says('<', okay(2|8))), false, false},
		"the last of them": {append(in[:1:1], says('>', query), says('<', okay(2|8), packet(1), column, endOf(2),
			endOf(2))), true, false},
		"a cursor": {append(in[:1:1], says('>', com(0x17, "0000")), says('<', packet(1), column,
			endOf(2|0x40))), true, false},
		"rows of a cursor": {append(in[:1:1], says('>', com(0x1c, "0000")), says('<', row, row, endOf(2|0x80))), true,
			false},
		"prepared": {append(in[:1:1], says('>', com(0x16, "x")), says('<', packet(0, 1, 0, 0, 0, 1, 0, 2, 0, 0,
			0, 0), column, column, endOf(2), column, endOf(2))), true, false},
		"prepared, half": {append(in[:1:1], says('>', com(0x16, "x")), says('<', packet(0, 1, 0, 0, 0, 1, 0, 2, 0, 0,
			0, 0), column, column, endOf(2))), false, false},
		"prepared without rows": {append(in[:1:1], says('>', com(0x16, "x")), says('<', packet(0, 1, 0, 0, 0, 0, 0, 0, 0, 0,
			0, 0))), true, false},
		"not prepared":    {append(in[:1:1], says('>', com(0x16, "x")), says('<', gone)), true, false},
		"closed and sent": {append(in[:1:1], says('>', com(0x19, "0000"), com(0x18, "0000"))), true, false},
		"fields of a table": {append(in[:1:1], says('>', com(4, "t")), says('<', column, column, endOf(2))), true,
			false},
		"statistics": {append(in[:1:1], says('>', com(9, "")), says('<', packet('U', 'p'))), true, false},
		"a file asked for": {append(in[:1:1], says('>', query), says('<', packet(0xfb, 'f')), says('>', packet('1',
			10))), false, false},
		"a file sent": {append(in[:1:1], says('>', query), says('<', packet(0xfb, 'f')), says('>', packet('1', 10),
			packet()), says('<', okay(2))), true, false},
		"another user": {append(in[:1:1], says('>', com(0x11, "kea")), says('<', packet(0xfe, 'm')), says('>',
			packet(7)), says('<', okay(2))), true, false},
		"another user, half": {append(in[:1:1], says('>', com(0x11, "kea")), says('<', packet(0xfe, 'm'))), false, false},
		"a log that never ends": {append(in[:1:1], says('>', com(0x12, "0000")), says('<', packet(0, 1), endOf(2))), false,
			false},
		"half a packet":         {append(in[:1:1], says('>', query[:5])), false, false},
		"killed":                {append(in[:1:1], says('<', gone)), true, false},
		"unasked":               {append(in[:1:1], says('<', okay(2))), false, false},
		"one of two answered":   {append(in[:1:1], says('>', query, query), says('<', okay(2))), false, false},
		"an OK that is cut off": {append(in[:1:1], says('>', query), says('<', packet(0, 1))), false, false},
		"an empty request":      {append(in[:1:1], says('>', packet())), false, false},
		"a row that looks ended": {append(in[:1:1], says('>', query), says('<', packet(1), column, endOf(2), packet(0xfe, 1,
			2, 3, 4, 5, 6, 7, 8, 9))), false, false},
	} {
		for range 20 { // in pieces of any size
			s := New()
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
			if s.Rests() != c.rests || s.InTransaction() != c.open {
				t.Fatalf("%s: rests %v, transaction %v", name, s.Rests(), s.InTransaction())
			}
		}
	}
}

// TestAPacketThatGoesOn: what is larger than a packet comes in several, of which only the first
// begins with what it is.
func TestAPacketThatGoesOn(t *testing.T) {
	s := New()
	s.FromServer(okay(2))
	large := bytes.Repeat([]byte{3}, 0xffffff)
	s.FromClient(Packet{0, large}.Bytes())
	if s.Rests() {
		t.Error("it rests amid a request")
	}
	s.FromClient(Packet{1, []byte{3, 3, 3}}.Bytes())
	s.FromServer(bytes.Join([][]byte{packet(1), column, endOf(2), Packet{4, large}.Bytes(), packet(0xfe, 0, 0, 2, 0)},
		nil))
	if s.Rests() {
		t.Error("the rest of a row was taken for the end of all")
	}
	if s.FromServer(endOf(2)); !s.Rests() {
		t.Error("it does not rest after all")
	}
}

// hello is a greeting with all capabilities that the lower bits have.
func hello(flags, own uint32) []byte {
	b := append([]byte{10}, "11.8.3-MariaDB\x00\x07\x00\x00\x0012345678\x00"...)
	b = binary.LittleEndian.AppendUint16(b, uint16(flags))
	b = append(b, 45, 2, 0)
	b = binary.LittleEndian.AppendUint16(b, uint16(flags>>16))
	b = append(b, 21, 0, 0, 0, 0, 0, 0)
	b = binary.LittleEndian.AppendUint32(b, own)
	return append(b, "123456789012\x00mysql_native_password\x00"...)
}

func TestTheGreeting(t *testing.T) {
	p, err := Greeting(Packet{0, hello(0xfffffffe, 0xffffffff)})
	if err != nil {
		t.Fatal(err)
	}
	want := hello(0xfffffffe&^(1<<5|1<<11|1<<24|1<<25|1<<26|1<<27), 0xffffffff&^(1|2|16|32))
	if !bytes.Equal(p.Body, want) {
		t.Errorf("% x\n% x", p.Body, want)
	}
	for _, b := range [][]byte{{9, 'x'}, {10, 'x'}, {10, 'x', 0, 1, 2}} {
		if _, err := Greeting(Packet{0, b}); !errors.Is(err, ErrNotStart) {
			t.Errorf("% x: %v", b, err)
		}
	}
	if !(Packet{0, gone[4:]}).Refused() || (Packet{0, want}).Refused() {
		t.Error("an error and a greeting are the same")
	}
}

// reply is a client's answer to the greeting.
func reply(flags uint32, rest string) Packet {
	b := binary.LittleEndian.AppendUint32(nil, flags)
	return Packet{1, append(append(b, make([]byte, 28)...), rest...)}
}

func TestTheAnswerToTheGreeting(t *testing.T) {
	const with, short, long = withDatabase, secureSignIn, longSignIn | secureSignIn
	for _, c := range []struct {
		flags      uint32
		rest, has  string
		forAnother string
	}{
		{with | short, "kea\x00\x03abcold\x00native\x00", "old", "kea\x00\x03abcnew\x00native\x00"},
		{with | long, "kea\x00\x03abcold\x00native\x00", "old", "kea\x00\x03abcnew\x00native\x00"},
		{with, "kea\x00abc\x00old\x00", "old", "kea\x00abc\x00new\x00"},
		{with | short, "kea\x00\x00old", "old", "kea\x00\x00new\x00"},
		{short, "kea\x00\x03abcnative\x00", "", "kea\x00\x03abcnative\x00"},
		{with | short, "kea\x00\x03abc\x00native\x00", "", "kea\x00\x03abc\x00native\x00"},
	} {
		a, err := ReadAnswer(reply(c.flags, c.rest))
		if err != nil || a.Database != c.has {
			t.Errorf("%q: %q, %v", c.rest, a.Database, err)
			continue
		}
		if got := string(a.For("new").Body[32:]); got != c.forAnother {
			t.Errorf("%q: %q", c.rest, got)
		}
		if got := a.For(c.has); string(got.Body) != string(a.Body) || got.Number != 1 {
			t.Errorf("%q: changed without a reason: %q", c.rest, got.Body)
		}
	}
	for _, p := range []Packet{{1, []byte("short")}, reply(short, "kea"), reply(short, "kea\x00\x09abc"),
		reply(long, "kea\x00\xff"), reply(with, "kea\x00abc"), reply(short, "kea\x00"), reply(encrypted, "")} {
		if _, err := ReadAnswer(p); !errors.Is(err, ErrNotStart) {
			t.Errorf("%q: %v", p.Body, err)
		}
	}
}

func TestPackets(t *testing.T) {
	if f := string(Failure(3, Killed, "70100", "gone")); !strings.HasPrefix(f, "\x0d\x00\x00\x03\xff\x87\x07#70100gone") {
		t.Errorf("%q", f)
	}
	if f := string(First(NoHandshake, "x")); f != "\x04\x00\x00\x00\xff\x13\x04x" {
		t.Errorf("%q", f)
	}
	if p, err := ReadPacket(strings.NewReader("\x01\x00\x00\x05z")); err != nil || p.Number != 5 || string(p.Body) != "z" {
		t.Errorf("%+v, %v", p, err)
	}
	for _, s := range []string{"", "\x01\x00\x00", "\x00\x00\x00\x00", "\xff\xff\xff\x00", "\x05\x00\x00\x00abc"} {
		if _, err := ReadPacket(strings.NewReader(s)); err == nil {
			t.Errorf("%q was read", s)
		}
	}
}

func FuzzSession(f *testing.F) {
	f.Add(query, okay(2))
	f.Add(com(0x16, "x"), packet(0, 1, 0, 0, 0, 1, 0, 2, 0))
	f.Fuzz(func(_ *testing.T, client, server []byte) {
		s := New()
		s.FromServer(okay(2))
		s.FromClient(client)
		s.FromServer(server)
		_, _ = s.Rests(), s.InTransaction()
		if p, err := ReadPacket(bytes.NewReader(client)); err == nil {
			_, _ = ReadAnswer(p)
			_, _ = Greeting(p)
		}
	})
}
