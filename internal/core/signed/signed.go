// Package signed signs documents, so that whoever has one can tell, without the service that wrote it,
// whether it is as it was written: Ed25519 (RFC 8032), over JSON with the keys of objects in order, or
// over a text.
package signed

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"dustyferry/internal/domain"
)

// field is where a JSON document carries its signature.
const field = "signature"

// mark begins the last part of a text, which carries its signature.
const mark = "\nSIGNATURE\n"

// Signature is what a document carries.
type Signature struct {
	Kind  string `json:"kind"`  // ed25519
	Key   string `json:"key"`   // the public key, in base64
	Value string `json:"value"` // in base64
}

// Name is what people know a public key by: the first 16 hexadecimal digits of its SHA-256.
func Name(public ed25519.PublicKey) string {
	sum := sha256.Sum256(public)
	return hex.EncodeToString(sum[:])[:16]
}

// PublicOf is the public key of a seed of 32 bytes.
func PublicOf(seed []byte) ed25519.PublicKey {
	return ed25519.NewKeyFromSeed(seed).Public().(ed25519.PublicKey) //nolint:forcetypeassert // it is one
}

func sign(seed, what []byte) Signature {
	return Signature{Kind: "ed25519", Key: base64.StdEncoding.EncodeToString(PublicOf(seed)),
		Value: base64.StdEncoding.EncodeToString(ed25519.Sign(ed25519.NewKeyFromSeed(seed), what))}
}

// Sign adds a signature to a JSON document. The seed has 32 bytes.
func Sign(seed []byte, doc map[string]any) error {
	delete(doc, field)
	plain, err := canonical(doc)
	if err != nil {
		return err
	}
	doc[field] = sign(seed, plain)
	return nil
}

// canonical is the JSON that is signed: numbers as a reader of JSON takes them, keys in order.
func canonical(doc any) ([]byte, error) {
	text, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	var plain any
	if err := json.Unmarshal(text, &plain); err != nil {
		return nil, err
	}
	return json.Marshal(plain)
}

// SignText adds a signature to a text.
func SignText(seed []byte, text string) string {
	text = strings.TrimRight(text, "\n") + "\n"
	s := sign(seed, []byte(text))
	return fmt.Sprintf("%s%s  kind   %s\n  key    %s\n  value  %s\n", text, mark, s.Kind, s.Key, s.Value)
}

// Verify returns the name of the key that a document was signed with, or why it is not as it was
// written.
func Verify(file []byte) (key string, err error) {
	var s Signature
	var what []byte
	if trimmed := bytes.TrimSpace(file); len(trimmed) > 0 && trimmed[0] == '{' {
		var doc map[string]any
		if err := json.Unmarshal(trimmed, &doc); err != nil {
			return "", domain.Invalid("it is no JSON document: %s", err)
		}
		raw, err := json.Marshal(doc[field])
		if err != nil {
			return "", err
		}
		if err := json.Unmarshal(raw, &s); err != nil || s.Value == "" {
			return "", domain.Invalid("it carries no signature")
		}
		delete(doc, field)
		if what, err = canonical(doc); err != nil {
			return "", err
		}
	} else {
		text := strings.ReplaceAll(string(file), "\r\n", "\n")
		i := strings.LastIndex(text, mark)
		if i < 0 {
			return "", domain.Invalid("it carries no signature")
		}
		what = []byte(text[:i])
		for _, line := range strings.Split(text[i+len(mark):], "\n") {
			switch f := strings.Fields(line); {
			case len(f) == 0:
			case len(f) == 2 && f[0] == "kind":
				s.Kind = f[1]
			case len(f) == 2 && f[0] == "key":
				s.Key = f[1]
			case len(f) == 2 && f[0] == "value":
				s.Value = f[1]
			default:
				return "", domain.Invalid("behind its signature there is %q, which it does not cover", line)
			}
		}
	}
	public, err1 := base64.StdEncoding.DecodeString(s.Key)
	value, err2 := base64.StdEncoding.DecodeString(s.Value)
	switch {
	case s.Kind != "ed25519":
		return "", domain.Invalid("its signature is of a kind that is not known: %q", s.Kind)
	case err1 != nil || err2 != nil || len(public) != ed25519.PublicKeySize:
		return "", domain.Invalid("its signature cannot be read")
	case !ed25519.Verify(public, what, value):
		return "", domain.Invalid("it is not as it was written: the signature does not fit")
	}
	return Name(public), nil
}
