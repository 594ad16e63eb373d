package signed_test

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"dustyferry/internal/core/signed"
)

var seed = bytes.Repeat([]byte{7}, 32)

func TestADocumentIsAsItWasWritten(t *testing.T) {
	doc := map[string]any{"crossing": "spring", "rows": int64(12345678901), "pause": 0.172, "tables": []any{map[string]any{
		"name": "<lots> & more", "hash": "b98"}}, "none": nil}
	if err := signed.Sign(seed, doc); err != nil {
		t.Fatal(err)
	}
	file, err := json.MarshalIndent(doc, "", "  ") // as a person keeps it
	if err != nil {
		t.Fatal(err)
	}
	name := signed.Name(signed.PublicOf(seed))
	if key, err := signed.Verify(file); err != nil || key != name || len(name) != 16 {
		t.Errorf("%q, %v", key, err)
	}
	for _, change := range [][2]string{{"spring", "autumn"}, {"12345678901", "12345678902"}, {"0.172", "0.171"},
		{`"none": null`, `"none": 0`}, {`"ed25519"`, `"other"`}, {`"value": "`, `"value": "A`}} {
		if _, err := signed.Verify([]byte(strings.Replace(string(file), change[0], change[1], 1))); err == nil {
			t.Errorf("%s became %s, and nobody sees it", change[0], change[1])
		}
	}
	text := signed.SignText(seed, "CERTIFICATE\n  of spring\n")
	for _, form := range []string{text, strings.ReplaceAll(text, "\n", "\r\n"), text + "\n"} {
		if key, err := signed.Verify([]byte(form)); err != nil || key != name {
			t.Errorf("%q, %v", key, err)
		}
	}
	for _, bad := range []string{strings.Replace(text, "spring", "autumn", 1), text + "  more  of it\n",
		"CERTIFICATE\n", "", "{}", "{", strings.Replace(text, "ed25519", "rot13", 1)} {
		if _, err := signed.Verify([]byte(bad)); err == nil {
			t.Errorf("taken: %q", bad)
		}
	}
	// Somebody else's signature is another key's.
	if key, err := signed.Verify([]byte(signed.SignText(bytes.Repeat([]byte{8}, 32), "CERTIFICATE\n"))); err != nil ||
		key == name {
		t.Errorf("%q, %v", key, err)
	}
}

func FuzzVerify(f *testing.F) {
	f.Add([]byte(signed.SignText(seed, "x")))
	f.Add([]byte(`{"signature": {"kind": "ed25519", "key": "", "value": "x"}}`))
	f.Fuzz(func(_ *testing.T, file []byte) { _, _ = signed.Verify(file) })
}
