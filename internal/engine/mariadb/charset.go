package mariadb

import (
	"context"
	"fmt"
	"unicode/utf16"
	"unicode/utf8"

	"dustyferry/internal/domain"
)

// The log carries texts in the character sets of their columns. They become the UTF-8 that
// a SELECT gives, by the server's own tables: its sets differ from those of the same names
// elsewhere, and give what is in none of them as a question mark.

// decoder appends a text to dst, in UTF-8.
type decoder func(dst, v []byte) []byte

// decoders finds how texts of a character set are read.
type decoders func(charset string) (decoder, error)

// charsets reads the server's tables, each once.
func (d *database) charsets(ctx context.Context) decoders {
	known := map[string]decoder{}
	return func(name string) (decoder, error) {
		if f, ok := known[name]; ok {
			return f, nil
		}
		f, err := d.charset(ctx, name)
		if err == nil {
			known[name] = f
		}
		return f, err
	}
}

func (d *database) charset(ctx context.Context, name string) (decoder, error) {
	switch name {
	case "", "utf8mb4", "utf8mb3", "utf8", "binary":
		return nil, nil
	case "ucs2":
		return fixed(2), nil
	case "utf32":
		return fixed(4), nil
	case "utf16":
		return paired(1, 0), nil
	case "utf16le":
		return paired(0, 1), nil
	}
	var longest int
	if err := d.pool.QueryRowContext(ctx, "SELECT maxlen FROM information_schema.character_sets WHERE "+
		"character_set_name = ?", name).Scan(&longest); err != nil {
		return nil, fmt.Errorf("the character set %s: %w", name, d.explain(err))
	}
	if longest != 1 {
		return nil, domain.Conflict("texts of the character set %s cannot be read from the log; convert the "+
			"column to utf8mb4", name)
	}
	all := make([]byte, 256)
	for i := range all {
		all[i] = byte(i)
	}
	var text []byte
	if err := d.pool.QueryRowContext(ctx, fmt.Sprintf("SELECT CONVERT(x'%x' USING %s)", all, name)).Scan(
		&text); err != nil {
		return nil, d.explain(err)
	}
	var table [256][]byte
	n := 0
	for ; len(text) > 0 && n < len(table); n++ {
		_, size := utf8.DecodeRune(text)
		table[n], text = text[:size], text[size:]
	}
	if n != len(table) || len(text) > 0 {
		return nil, domain.Conflict("the server does not say how texts of the character set %s are read; convert the "+
			"column to utf8mb4", name)
	}
	return func(dst, v []byte) []byte {
		for _, b := range v {
			dst = append(dst, table[b]...)
		}
		return dst
	}, nil
}

// fixed reads characters of so many bytes each, the highest first.
func fixed(size int) decoder {
	return func(dst, v []byte) []byte {
		for ; len(v) >= size; v = v[size:] {
			var r rune
			for _, b := range v[:size] {
				r = r<<8 | rune(b)
			}
			dst = appendRune(dst, r)
		}
		return dst
	}
}

// paired reads UTF-16 whose low and high bytes stand where low and high say.
func paired(low, high int) decoder {
	return func(dst, v []byte) []byte {
		for ; len(v) >= 2; v = v[2:] {
			r := rune(v[high])<<8 | rune(v[low])
			if utf16.IsSurrogate(r) && len(v) >= 4 {
				r = utf16.DecodeRune(r, rune(v[2+high])<<8|rune(v[2+low]))
				v = v[2:]
			}
			dst = appendRune(dst, r)
		}
		return dst
	}
}

// appendRune appends a character as the server gives it: surrogates that stand alone in three
// bytes, which is no UTF-8, and a question mark for what is beyond Unicode.
func appendRune(dst []byte, r rune) []byte {
	switch {
	case utf16.IsSurrogate(r):
		return append(dst, 0xe0|byte(r>>12), 0x80|byte(r>>6)&0xbf, 0x80|byte(r)&0xbf)
	case !utf8.ValidRune(r):
		r = '?'
	}
	return utf8.AppendRune(dst, r)
}
