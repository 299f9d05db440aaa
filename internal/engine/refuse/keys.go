package refuse

import (
	"fmt"
	"strings"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
)

// SingleKey says why rows of a table cannot be named by the values of one column; nil where they can.
func SingleKey(t *shape.Table) error {
	message := t.Name + " has no key"
	if key := t.OwnKey(); len(key) == 1 {
		return nil
	} else if len(key) > 1 {
		message = fmt.Sprintf("the key of %s has %d columns (%s)", t.Name, len(key), strings.Join(key, ", "))
	}
	return &Error{Field: "keys", Message: message, Remedy: "name the rows with a condition (-where)"}
}

// KeysFilter makes a filter of keys. An error says why the table's rows have no such keys.
func KeysFilter(t *shape.Table, keys []string) (string, error) {
	if err := SingleKey(t); err != nil {
		return "", err
	}
	literals := make([]string, len(keys))
	for i, k := range keys {
		literals[i] = Literal(t, k)
	}
	return Identifier(t.Key[0]) + " IN (" + strings.Join(literals, ", ") + ")", nil
}

// Identifier quotes a name for a filter.
func Identifier(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// Literal writes a key of a table as a literal: as it stands where it is compared with a number, else in quotes.
func Literal(t *shape.Table, key string) string {
	quoted := "'" + strings.ReplaceAll(key, "'", "''") + "'"
	if _, bad := filter.Bind(Identifier(t.Key[0])+" = "+quoted, filter.TableScope(t)); len(bad) > 0 {
		return key
	}
	return quoted
}
