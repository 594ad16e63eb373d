// Command settings writes what comes from the list of settings: the settings' part of the
// contract, and docs/settings.md. With -check it only says whether they are as they would be
// written.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"strconv"
	"strings"

	"dustyferry/internal/domain"
)

const (
	contractFile = "internal/contract/openapi.yaml"
	docFile      = "docs/settings.md"
)

func main() {
	check := flag.Bool("check", false, "only compare")
	flag.Parse()
	contract, err := os.ReadFile(contractFile)
	if err == nil {
		var now []byte
		if now, err = inContract(contract); err == nil {
			err = keep(contractFile, contract, now, *check)
		}
	}
	if err == nil {
		doc, _ := os.ReadFile(docFile)
		err = keep(docFile, doc, []byte(document()), *check)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func keep(file string, old, now []byte, check bool) error {
	switch {
	case bytes.Equal(old, now):
		return nil
	case check:
		return fmt.Errorf("%s is not what the list of settings makes; run 'go run ./scripts/settings'", file)
	}
	return os.WriteFile(file, now, 0o644)
}

// inContract puts the settings' properties into the contract.
func inContract(contract []byte) ([]byte, error) {
	head, rest, ok := bytes.Cut(contract, []byte("    Settings:\n      type: object\n      properties:\n"))
	_, tail, ok2 := bytes.Cut(rest, []byte("    Rule:\n"))
	if !ok || !ok2 {
		return nil, fmt.Errorf("%s has no schema Settings before Rule", contractFile)
	}
	var b bytes.Buffer
	b.Write(head)
	b.WriteString("    Settings:\n      type: object\n      properties:\n")
	for _, d := range domain.SettingsList() {
		fmt.Fprintf(&b, "        %s: {%s, description: %s}\n", d.Property(), form(d), strconv.Quote(help(d)))
	}
	b.WriteString("    Rule:\n")
	b.Write(tail)
	return b.Bytes(), nil
}

func form(d domain.Setting) string {
	text := "type: string"
	if len(d.Choices) > 0 {
		text += ", enum: [" + strings.Join(d.Values(), ", ") + "]"
	}
	switch d.Kind {
	case domain.SettingCount:
		return "type: integer" + map[bool]string{true: ", format: int64"}[d.Most == 0]
	case domain.SettingSize, domain.SettingRate:
		return "type: integer, format: int64"
	case domain.SettingShare, domain.SettingDuration:
		return "type: number, format: double"
	case domain.SettingTexts, domain.SettingChoices:
		return "type: array, items: {" + text + "}"
	}
	return text
}

// help is what the setting is for, with what 0 or an empty text means.
func help(d domain.Setting) string {
	text := d.Help
	switch {
	case d.Kind == domain.SettingSize || d.Kind == domain.SettingDuration:
		text += map[bool]string{true: ", in bytes", false: ", in seconds"}[d.Kind == domain.SettingSize]
	}
	return text + zero(d)
}

func zero(d domain.Setting) string {
	switch {
	case d.Zero == "":
		return ""
	case d.Kind == domain.SettingText || d.Kind == domain.SettingTexts || d.Kind == domain.SettingChoices:
		return "; empty: " + d.Zero
	}
	return "; 0: " + d.Zero
}

func document() string {
	var b strings.Builder
	b.WriteString(`# Settings of a crossing

Made by ` + "`go run ./scripts/settings`" + ` from the list in ` + "`internal/domain/settingslist.go`" + `.

- In a **manifest** a setting stands under ` + "`crossing.settings`" + ` by its key; on a **command line** it is a flag of the same name with dashes (` + "`lanes`, `--lanes`" + `); in the **API** it has the name given below where that is another.
- **Sizes** are written as a number of bytes or with a unit: kB, MB, GB, TB are powers of 1,000, and KiB, MiB, GiB, TiB powers of 1,024. **Durations** are written like ` + "`5s` or `2m30s`" + `; the API takes and gives seconds.
- What a manifest or a request leaves out is as new crossings begin with (` + "`dustyferry defaults`" + `), and after the start as it was. An explicit 0 or an empty text is a value of its own, which an export keeps.
- **While it runs**: what says "yes" takes effect within seconds, also in the middle of a load; the others shape the plan, and can be changed until the start.
- An admin can lock settings for all crossings by their keys (` + "`dustyferry house`" + `).
`)
	for _, group := range domain.SettingGroups {
		fmt.Fprintf(&b, "\n## %s\n\n| key | what for | may be | default | while it runs |\n|---|---|---|---|---|\n", group)
		for _, d := range domain.SettingsList() {
			if d.Group == group {
				fmt.Fprintf(&b, "| `%s`%s | %s%s | %s | %s | %s |\n", d.Key, api(d), d.Help, note(d), may(d), byDefault(d), map[bool]string{true: "yes", false: "no"}[d.Live])
			}
		}
	}
	return b.String()
}

func api(d domain.Setting) string {
	var out string
	if p := d.Property(); p != d.Key {
		out = ", in the API `" + p + "`"
	}
	for _, was := range d.Was {
		out += ", formerly `" + was + "`"
	}
	return out
}

func note(d domain.Setting) string {
	var out string
	if d.WithoutRows {
		out += "; only with `copy_rows: false`"
	}
	if d.Cutover {
		out += "; can be given with a cutover"
	}
	return out
}

func may(d domain.Setting) string {
	if len(d.Choices) > 0 {
		var list []string
		for _, c := range d.Choices {
			list = append(list, "`"+c.Value+"`: "+c.Label)
		}
		return strings.Join(list, "<br>")
	}
	text := strings.TrimPrefix(d.Bounds(), "give ")
	if d.Kind == domain.SettingText || d.Kind == domain.SettingTexts {
		text = map[bool]string{true: "a text", false: "several texts"}[d.Kind == domain.SettingText] + zero(d)
	}
	return strings.ReplaceAll(text, ",;", ";")
}

func byDefault(d domain.Setting) string {
	if d.Default == nil {
		if d.Zero != "" {
			return d.Zero
		}
		return "0"
	}
	return "`" + d.Text(d.Default) + "`"
}
