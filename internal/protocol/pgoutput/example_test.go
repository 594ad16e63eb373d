package pgoutput_test

import (
	"fmt"

	"dustyferry/internal/protocol/pgoutput"
)

// A message of the replication stream, as the server sends it, and what it says.
func ExampleDecode() {
	raw := pgoutput.Insert{Relation: 16385, New: pgoutput.Tuple{{Kind: 't', Data: []byte("7")}, {Kind: 'n'}}}.Append(nil)
	m, err := pgoutput.Decode(raw)
	if err != nil {
		fmt.Println(err)
		return
	}
	row := m.(pgoutput.Insert)
	fmt.Printf("a new row of table %d: %s, and NULL: %t\n", row.Relation, row.New[0].Data, row.New[1].Kind == 'n')
	_, err = pgoutput.Decode(raw[:8])
	fmt.Println(err)
	// Output:
	// a new row of table 16385: 7, and NULL: true
	// pgoutput: message is cut short
}
