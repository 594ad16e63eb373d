package cli

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// confirmFlag adds the flag with which an act that cannot be undone is confirmed where
// nobody can be asked.
func confirmFlag(c *cobra.Command, what string) *string {
	return c.Flags().String("confirm", "", what+" once more, to say that you mean it; asked for on a terminal")
}

// confirmed returns the name that confirms an act: the one given, or else what a person
// types on the terminal. act is what is about to be done.
func (a *app) confirmed(given, name, act string) (string, error) {
	if given != "" {
		return given, nil // the service knows whether it is right
	}
	f, ok := a.err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) || !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", exitWith(ExitUsage, "%s cannot be undone; add --confirm %s", act, name)
	}
	fmt.Fprintf(a.err, "%s cannot be undone. Type %s to confirm: ", upperFirst(act), name)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil && line == "" {
		return "", exitWith(ExitProblem, "nothing was confirmed, and nothing was done")
	}
	if line = strings.TrimSpace(line); line != name {
		return "", exitWith(ExitProblem, "%q is not %s; nothing was done", line, name)
	}
	return line, nil
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
