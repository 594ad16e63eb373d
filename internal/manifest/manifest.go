// Package manifest reads and writes the YAML form of a crossing, for files kept
// in version control. Reading is strict: an unknown key or a wrong value is an
// error that names line and column. Export and import lose nothing; passwords
// are never part of it.
package manifest

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"

	"dustyferry/internal/domain"
)

// Version is the format's version, the value of the first key.
const Version = 1

// File is a manifest.
type File struct {
	Version  int      `yaml:"dusty_ferry" jsonschema:"required,enum=1,description=Version of the format"`
	Crossing Crossing `yaml:"crossing" jsonschema:"required"`
}

// Crossing is the part that describes the crossing.
type Crossing struct {
	Name          string        `yaml:"name" jsonschema:"required,description=Letters\\, digits\\, dash\\, dot and underscore"`
	CopyRows      *bool         `yaml:"copy_rows,omitempty" jsonschema:"default=true,description=Whether the rows that are there are copied"`
	FollowChanges *bool         `yaml:"follow_changes,omitempty" jsonschema:"default=true,description=Whether live changes are followed"`
	OldKind       domain.Kind   `yaml:"kind,omitempty" jsonschema:"enum=load,enum=load+capture,enum=capture,description=Of before: copy_rows and follow_changes say the same"`
	Source        string        `yaml:"source" jsonschema:"required,description=Name of the registered source database"`
	Target        string        `yaml:"target" jsonschema:"required,description=Name of the registered target database"`
	Tables        []string      `yaml:"tables,omitempty" jsonschema:"description=Patterns schema.table with *; a leading - leaves out; the last that matches wins (default: every table)"`
	Rules         []domain.Rule `yaml:"rules,omitempty" jsonschema:"description=Changes to the plans of tables; of several that match a later one wins\\, attribute by attribute"`
	// As [domain.Planning], which a person finds beside the rest.
	Queries    []domain.Query    `yaml:"queries,omitempty" jsonschema:"description=Queries whose rows become tables of the target; crossings that do not follow changes"`
	Parameters map[string]string `yaml:"parameters,omitempty" jsonschema:"description=Values of :name in queries\\, conditions and expressions: texts\\, numbers\\, or times like today - 7 days"`
	Before     []string          `yaml:"before,omitempty" jsonschema:"description=Statements that run on the target when its tables stand\\, before the first row"`
	After      []string          `yaml:"after,omitempty" jsonschema:"description=Statements that run on the target when the load has ended and its indexes stand"`
	Carry      []domain.Carried  `yaml:"carry,omitempty" jsonschema:"enum=views,enum=routines,enum=triggers,description=What else is made on a target of the same engine"`
	Settings   Settings          `yaml:"settings,omitempty"`
}

// Kind is which of the two things the crossing does.
func (c Crossing) Kind() (domain.Kind, error) {
	return domain.KindOf(c.CopyRows, c.FollowChanges, c.OldKind)
}

// Notices are what the manifest says in words of before, which are still read.
func (c Crossing) Notices() []string {
	var out []string
	if c.OldKind != "" {
		out = append(out, fmt.Sprintf("kind: %s is written as copy_rows: %t and follow_changes: %t now", c.OldKind,
			c.OldKind.Copies(), c.OldKind.Follows()))
	}
	for _, r := range c.Rules {
		if r.OldStanding != "" {
			out = append(out, "standing of a rule is called existing_rows now")
			break
		}
	}
	for _, d := range domain.SettingsList() {
		for _, was := range d.Was {
			if slices.Contains(c.Settings.was, was) {
				out = append(out, fmt.Sprintf("the setting %s is called %s now", was, d.Key))
			}
		}
	}
	return out
}

// Planning is the part that [domain.Planning] holds.
func (c Crossing) Planning() domain.Planning {
	return domain.Planning{Queries: c.Queries, Parameters: c.Parameters, Before: c.Before, After: c.After, Carry: c.Carry}
}

// Parse reads a manifest.
func Parse(text []byte) (*File, error) {
	var f File
	if err := decode("the manifest", text, &f); err != nil {
		return nil, err
	}
	if f.Version != Version {
		return nil, domain.Invalid("the manifest must begin with \"dusty_ferry: %d\"; it says %d", Version, f.Version)
	}
	for _, need := range []struct{ key, value string }{{"name", f.Crossing.Name}, {"source", f.Crossing.Source},
		{"target", f.Crossing.Target}} {
		if need.value == "" {
			return nil, domain.Invalid("the manifest lacks crossing.%s", need.key)
		}
	}
	return &f, nil
}

// Plan is how a file says what is planned for a crossing that is there already.
type Plan struct {
	Tables          []string      `yaml:"tables,omitempty"`
	Rules           []domain.Rule `yaml:"rules,omitempty"`
	domain.Planning `yaml:",inline"`
}

// ParsePlan reads what is planned, as a manifest has it under crossing.
func ParsePlan(text []byte) (*Plan, error) {
	var p Plan
	if err := decode("the file", text, &p); err != nil {
		return nil, err
	}
	if err := domain.ValidRules(p.Rules); err != nil {
		return nil, err
	}
	return &p, p.Validate()
}

// Policy is what holds for all crossings.
type Policy = domain.Policy

// ParsePolicy reads what holds for all crossings.
func ParsePolicy(text []byte) (*Policy, error) {
	var h Policy
	if err := decode("the file", text, &h); err != nil {
		return nil, err
	}
	return &h, h.Validate()
}

// ParseRules reads a list of rules, as a manifest has it under crossing.rules.
func ParseRules(text []byte) ([]domain.Rule, error) {
	var list []domain.Rule
	if err := decode("the file", text, &list); err != nil {
		return nil, err
	}
	return list, domain.ValidRules(list)
}

// Bounds of a text that may come from anybody: its bytes, how deep its values may nest, and
// how long it may take to read. YAML's names for values elsewhere in the text (anchors and
// aliases) are refused, as a few of them make a text of any size.
const (
	largestText = 1 << 20
	mostOpen    = 1000 // brackets, also in texts: to take apart more of them takes long
	deepest     = 20
	longestRead = 5 * time.Second
)

// decode reads YAML strictly; what names the text in errors.
func decode(what string, text []byte, to any) error {
	if len(text) > largestText {
		return domain.Invalid("%s has %d bytes; %d may be", what, len(text), largestText)
	}
	if open := bytes.Count(text, []byte("{")) + bytes.Count(text, []byte("[")) - bytes.Count(text,
		[]byte("}")) - bytes.Count(text, []byte("]")); open > mostOpen {
		return domain.Invalid("%s leaves %d brackets open, so that values nest deeper than %d", what, open, deepest)
	}
	read := make(chan error, 1)
	go func() {
		defer func() {
			if r := recover(); r != nil {
				read <- domain.Invalid("%s cannot be read: its form is broken", what)
			}
		}()
		if err := bounded(what, text); err != nil {
			read <- err
			return
		}
		read <- parse(what, text, to)
	}()
	select {
	case err := <-read:
		return err
	case <-time.After(longestRead):
		return domain.Invalid("%s takes longer than %s to read; write it plainly", what, longestRead)
	}
}

// bounded looks at the words of a text before values are made of them.
func bounded(what string, text []byte) error {
	depth := 0
	indents := []int{}
	line := 0
	for _, t := range lexer.Tokenize(string(text)) {
		at := func(why string) error {
			return domain.Invalid("%s is wrong at line %d, column %d: %s", what, t.Position.Line, t.Position.Column, why)
		}
		switch t.Type {
		case token.AnchorType, token.AliasType, token.MergeKeyType:
			return at("names for values elsewhere in the text (&, *, <<) are not taken; write the value where it belongs")
		case token.TagType:
			return at("tags (!) are not taken")
		case token.MappingStartType, token.SequenceStartType:
			depth++
		case token.MappingEndType, token.SequenceEndType:
			depth--
		}
		if depth == 0 && (t.Position.Line != line || t.Type == token.SequenceEntryType) {
			line = t.Position.Line
			for len(indents) > 0 && indents[len(indents)-1] >= t.Position.Column {
				indents = indents[:len(indents)-1]
			}
			indents = append(indents, t.Position.Column)
		}
		if depth+len(indents) > deepest {
			return at(fmt.Sprintf("values nest deeper than %d", deepest))
		}
	}
	return nil
}

func parse(what string, text []byte, to any) error {
	err := yaml.NewDecoder(bytes.NewReader(text), yaml.Strict()).Decode(to)
	if err == nil {
		return nil
	}
	var ye yaml.Error
	if errors.As(err, &ye) && ye.GetToken() != nil && ye.GetToken().Position != nil {
		p := ye.GetToken().Position
		return domain.Invalid("%s is wrong at line %d, column %d: %s", what, p.Line, p.Column, ye.GetMessage())
	}
	return domain.Invalid("%s cannot be read: %s", what, strings.SplitN(err.Error(), "\n", 2)[0])
}

// Write returns a crossing as a manifest.
func Write(c *domain.Crossing) ([]byte, error) {
	copies, follows := c.Kind.Copies(), c.Kind.Follows()
	return yaml.Marshal(File{Version: Version, Crossing: Crossing{
		Name: c.Name, CopyRows: &copies, FollowChanges: &follows, Source: c.Source, Target: c.Target, Tables: c.Patterns,
		Rules:   c.Rules,
		Queries: c.Planning.Queries, Parameters: c.Planning.Parameters, Before: c.Planning.Before, After: c.Planning.After,
		Carry:    c.Planning.Carry,
		Settings: Settings{Given: c.Settings.Stated()},
	}})
}
