package domain

// Confirmed refuses an act that cannot be undone unless the name of what it is about was
// said again with it. act says what is about to be done: "closing spring".
func Confirmed(given, name, act string) error {
	switch given {
	case name:
		return nil
	case "":
		return Invalid("%s cannot be undone; confirm it by giving the name %s (confirm, or --confirm)", act, name)
	}
	return Invalid("%s cannot be undone; the name given to confirm it is %q, wanted is %s", act, given, name)
}
