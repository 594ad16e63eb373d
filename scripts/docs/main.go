// Command docs writes what comes from lists in the code: the settings' part of the contract,
// docs/settings.md, docs/metrics.md and docs/errors.md. With -check it only says whether they
// are as they would be written.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"strconv"
	"strings"

	"dustyferry/internal/api"
	"dustyferry/internal/cli"
	"dustyferry/internal/domain"
)

const contractFile = "internal/contract/openapi.yaml"

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
	for file, text := range map[string]func() string{"docs/settings.md": settings, "docs/metrics.md": metrics,
		"docs/errors.md": refusals} {
		if err == nil {
			old, _ := os.ReadFile(file)
			err = keep(file, old, []byte(text()), *check)
		}
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
		return fmt.Errorf("%s is not what the code makes of it; run 'go run ./scripts/docs'", file)
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

func settings() string {
	var b strings.Builder
	b.WriteString(`# Settings of a crossing

Made by ` + "`go run ./scripts/docs`" + ` from the list in ` + "`internal/domain/settingslist.go`" + `.

- In a **manifest** a setting stands under ` + "`crossing.settings`" +
		` by its key; on a **command line** it is a flag of the same name with dashes (` + "`lanes`, `--lanes`" +
		`); in the **API** it has the name given below where that is another.
- **Sizes** are written as a number of bytes or with a unit: kB, MB, GB, TB are powers of 1,000, and KiB, MiB, GiB, TiB powers of 1,024. **Durations** are written like ` + "`5s` or `2m30s`" + `; the API takes and gives seconds.
- What a manifest or a request leaves out is as new crossings begin with (` + "`dustyferry defaults`" +
		`), and after the start as it was. An explicit 0 or an empty text is a value of its own, which an export keeps.
- **While it runs**: what says "yes" takes effect within seconds, also in the middle of a load; the others shape the plan, and can be changed until the start.
- An admin can lock settings for all crossings by their keys (` + "`dustyferry policy`" + `).
`)
	for _, group := range domain.SettingGroups {
		fmt.Fprintf(&b, "\n## %s\n\n| key | what for | may be | default | while it runs |\n|---|---|---|---|---|\n", group)
		for _, d := range domain.SettingsList() {
			if d.Group == group {
				fmt.Fprintf(&b, "| `%s`%s | %s%s | %s | %s | %s |\n", d.Key, inAPI(d), d.Help, note(d), may(d), byDefault(d),
					map[bool]string{true: "yes", false: "no"}[d.Live])
			}
		}
	}
	return b.String()
}

func inAPI(d domain.Setting) string {
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

func metrics() string {
	var b strings.Builder
	b.WriteString(`# Metrics

Made by ` + "`go run ./scripts/docs`" + ` from the list in ` + "`internal/api/metrics.go`" + `.

` + "`GET /metrics`" +
		` answers in the text format of Prometheus and needs no token. It names crossings and counts, never hosts, users or values. What was not measured has no sample.

| metric | type | labels | what |
|---|---|---|---|
`)
	for _, m := range api.Metrics {
		fmt.Fprintf(&b, "| `%s` | %s | crossing | %s |\n", m.Name, map[bool]string{true: "counter", false: "gauge"}[m.Counts],
			m.Help)
	}
	b.WriteString("| `dustyferry_crossing` | gauge | crossing, phase, condition | 1 for the phase and condition that a " +
		"crossing is in. |\n")
	b.WriteString("| `dustyferry_request_seconds` | histogram | path, status | Time to answer a request. |\n\nBeside " +
		"them stand the usual figures of a Go process (`go_…`, `process_…`).\n")
	return b.String()
}

func refusals() string {
	var b strings.Builder
	b.WriteString(`# Errors

Made by ` + "`go run ./scripts/docs`" + ` from ` + "`internal/api/refusals.go` and `internal/cli/root.go`" + `.

Every error is one sentence: what was being done, to what, what the server said, what to do. The API answers with a problem document (RFC 9457, ` + "`application/problem+json`" + `) whose ` + "`detail`" + ` is that sentence.

## Answers of the API

| status | title | means | what to do |
|---|---|---|---|
`)
	for _, r := range api.Refusals {
		fmt.Fprintf(&b, "| %d | %s | %s | %s |\n", r.Status, r.Title, r.Means, r.ToDo)
	}
	b.WriteString("\n## Exit codes of the command line\n\n| code | means |\n|---|---|\n")
	for _, e := range cli.ExitCodes {
		fmt.Fprintf(&b, "| %d | %s |\n", e.Code, e.Means)
	}
	b.WriteString(`
## What a server said

Each engine sorts what its server says into one of these, and the work acts by that. No message of a server is passed over: its text is always part of ours.

| class | such as | what becomes of the work |
|---|---|---|
| gone | connection lost, server restarting | it waits and goes on by itself; no try is counted |
| no room | disk full, out of memory, no connection left, read-only | it waits and goes on by itself; no try is counted |
| collision | deadlock, lock timeout, serialization failure | it is tried again as it was |
| rows refused | a value that does not fit, a constraint | the row is looked for and named; its table is held, or the row is set aside (` + "`bad_rows`" + `) |
| statement refused | a missing right or object | it is tried a few times, then held with what to do |
`)
	return b.String()
}
