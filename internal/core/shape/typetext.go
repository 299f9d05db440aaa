package shape

import (
	"fmt"
	"regexp"
	"strings"
)

// The form of a type as databases write it: names, perhaps with arguments in parentheses, perhaps an array. Names are
// words or quoted ones, with their schema where they have one; arguments are numbers, names and texts. Texts hold no
// backslash: some servers take it for more than itself.
var typeForm = func() *regexp.Regexp {
	const word = `(?:[A-Za-z_][A-Za-z0-9_$]*|"(?:[^"]|"")+")`
	const name = word + `(?:\.` + word + `)*`
	const argument = `\s*(?:[+-]?\d+|'(?:[^'\\]|'')*'|` + name + `)\s*`
	return regexp.MustCompile(`^\s*` + name + `(?:\s+` + name + `)*\s*(?:\(` + argument + `(?:,` + argument +
		`)*\))?(?:\s+` + name + `)*\s*(?:\[\d*\])*\s*$`)
}()

// clauses are words that begin something else than a type where a column is declared.
var clauses = regexp.MustCompile(
	`(?i)\b(?:default|check|references|generated|always|as|primary|unique|key|constraint|not|null|` +
		`on|auto_increment|autoincrement|comment|select|storage|virtual|stored|like|using|collate)\b`)

var quoted = regexp.MustCompile(`"(?:[^"]|"")+"|'(?:[^']|'')*'`)

// CheckType says why a text is no type of a column that could be put into a statement as it is; nil: it is one. The
// empty text is one too, where columns need none.
func CheckType(text string) error {
	if strings.TrimSpace(text) == "" {
		return nil
	}
	if len(text) > 1<<20 || strings.ContainsRune(text, 0) || !typeForm.MatchString(text) ||
		clauses.MatchString(quoted.ReplaceAllString(text, "")) {
		return fmt.Errorf("%.80q is no type that a column could be declared with", text)
	}
	return nil
}
