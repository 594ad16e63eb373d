// Lines reports lines of Go that are longer than 120 characters, and fails where there are any. A
// text in back quotes, such as SQL, JSON or a field's tag, may be longer: it cannot be cut.
package main

import (
	"bytes"
	"fmt"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"
)

const most = 120

func main() {
	bad := 0
	for _, root := range []string{"bench", "client", "cmd", "internal", "scripts", "test"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, ".gen.go") {
				return err
			}
			src, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			for _, n := range long(src) {
				fmt.Printf("%s:%d: more than %d characters\n", path, n, most)
				bad++
			}
			return nil
		})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	}
	if bad > 0 {
		os.Exit(1)
	}
}

// long returns the numbers of lines that are too long and hold no text in back quotes.
func long(src []byte) []int {
	files := token.NewFileSet()
	file := files.AddFile("", -1, len(src))
	var s scanner.Scanner
	s.Init(file, src, nil, scanner.ScanComments)
	raw := map[int]bool{}
	for {
		pos, kind, text := s.Scan()
		if kind == token.EOF {
			break
		}
		if kind != token.STRING || text[0] != '`' {
			continue
		}
		first := file.Line(pos)
		for n := range strings.Count(text, "\n") + 1 {
			raw[first+n] = true
		}
	}
	var out []int
	for n, line := range bytes.Split(src, []byte("\n")) {
		if utf8.RuneCount(line) > most && !raw[n+1] {
			out = append(out, n+1)
		}
	}
	return out
}
