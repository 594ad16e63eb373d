package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
)

// settingFlag is a setting as a flag; only what is given on the command line is sent.
type settingFlag struct {
	setting domain.Setting
	text    string
	value   any
	given   bool
}

func (f *settingFlag) String() string { return f.text }

// Set implements the flag library's value. A list may be given by commas or by several flags.
func (f *settingFlag) Set(text string) error {
	v, err := f.setting.Parse(text)
	if err != nil {
		return err
	}
	if list, ok := v.([]string); ok && f.given {
		v = append(f.value.([]string), list...)
	}
	f.text, f.value, f.given = text, v, true
	return nil
}

// Type is what the help shows in place of the value.
func (f *settingFlag) Type() string {
	switch f.setting.Kind {
	case domain.SettingCount, domain.SettingShare:
		return "number"
	case domain.SettingRate:
		return "size/s"
	case domain.SettingTexts, domain.SettingChoices:
		return "list"
	case domain.SettingChoice:
		return "word"
	}
	return string(f.setting.Kind)
}

func settingHelp(d domain.Setting) string {
	text := d.Help
	if len(d.Choices) > 0 {
		text += ": " + domain.OneOf(d.Values())
	}
	if d.WithoutRows {
		text += " (with --copy-rows=false)"
	}
	switch {
	case d.Default != nil:
		text += " (usually " + d.Text(d.Default) + ")"
	case d.Zero == "" || d.Kind == domain.SettingTexts || d.Kind == domain.SettingChoices:
	case d.Kind == domain.SettingText:
		text += " (empty: " + d.Zero + ")"
	default:
		text += " (0: " + d.Zero + ")"
	}
	return text
}

// settingFlags are the settings as flags that are wanted; only those given are sent.
func settingFlags(c *cobra.Command, wanted func(domain.Setting) bool) func() (*contract.Settings, error) {
	var flags []*settingFlag
	for _, d := range domain.SettingsList() {
		if wanted(d) {
			f := &settingFlag{setting: d}
			flags = append(flags, f)
			c.Flags().Var(f, d.Flag(), settingHelp(d))
		}
	}
	return func() (*contract.Settings, error) {
		given := domain.Given{}
		for _, f := range flags {
			if f.given {
				given[f.setting.Key] = f.value
			}
		}
		text, err := json.Marshal(given.JSON())
		if err != nil {
			return nil, err
		}
		s := &contract.Settings{}
		return s, json.Unmarshal(text, s)
	}
}

func anySetting(domain.Setting) bool { return true }

func ofCutover(d domain.Setting) bool { return d.Cutover }
