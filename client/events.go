package client

import (
	"bufio"
	"io"
	"reflect"
	"strings"
)

// readEvents reads the text/event-stream format (WHATWG HTML, "Server-sent
// events").
func readEvents(r io.Reader, f func(Event) error) error {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 64<<10), 64<<20)
	var e Event
	for s.Scan() {
		line := s.Text()
		if line == "" {
			if len(e.Data) > 0 {
				if err := f(e); err != nil {
					return err
				}
			}
			e = Event{}
			continue
		}
		name, value, _ := strings.Cut(line, ":")
		value = strings.TrimPrefix(value, " ")
		switch name {
		case "id":
			e.ID = value
		case "event":
			e.Kind = value
		case "data":
			e.Data = append(e.Data, value...)
		}
	}
	if err := s.Err(); err != nil {
		return err
	}
	return io.ErrUnexpectedEOF
}

// bodyOf takes the Body field every generated answer has.
func bodyOf(r any) []byte {
	b, _ := reflect.Indirect(reflect.ValueOf(r)).FieldByName("Body").Interface().([]byte)
	return b
}
