package inventory

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/machine"
)

// field is what a filter may ask of a list.
type field struct {
	equal string // SQL with %s where the argument goes
	like  string // likewise, of a pattern; "" when only = makes sense
	check func(value string) error
}

func isUUID(value string) error {
	if _, err := uuid.Parse(value); err != nil {
		return fmt.Errorf("%q is not a UUID", value)
	}
	return nil
}

func isMAC(value string) error {
	_, err := machine.ParseMAC(value)
	return err
}

// oneOf takes a value of a list only.
func oneOf(values ...string) func(string) error {
	return func(value string) error {
		if !slices.Contains(values, value) {
			return fmt.Errorf("there is no %q; there are %s", value, strings.Join(values, ", "))
		}
		return nil
	}
}

// term is one condition of a filter: a field, = or ~, and a value.
type term struct {
	field string
	op    byte
	value string
}

// terms reads a filter: FIELD=VALUE and FIELD~PATTERN with spaces between them. A
// value with spaces is put into quotes, in which \ takes the next character as it is.
func terms(filter string) (list []term, err error) {
	rest := strings.TrimLeft(filter, " \t\n")
	for rest != "" {
		at := strings.IndexAny(rest, "=~ \t\n")
		if at < 1 || strings.ContainsRune(" \t\n", rune(rest[at])) {
			word, _, _ := strings.Cut(rest, " ")
			return nil, fail("wrong", "filter %q: %q is no FIELD=VALUE or FIELD~PATTERN", filter, word)
		}
		t := term{field: rest[:at], op: rest[at]}
		rest = rest[at+1:]
		if strings.HasPrefix(rest, `"`) {
			if t.value, rest, err = quoted(rest[1:]); err != nil {
				return nil, fail("wrong", "filter %q: %v", filter, err)
			}
			if rest != "" && !strings.ContainsRune(" \t\n", rune(rest[0])) {
				return nil, fail("wrong", "filter %q: a space is missing after the value of %s", filter, t.field)
			}
		} else if at := strings.IndexAny(rest, " \t\n"); at >= 0 {
			t.value, rest = rest[:at], rest[at:]
		} else {
			t.value, rest = rest, ""
		}
		if t.value == "" {
			return nil, fail("wrong", "filter %q: %s%c has no value", filter, t.field, t.op)
		}
		list = append(list, t)
		rest = strings.TrimLeft(rest, " \t\n")
	}
	return list, nil
}

// quoted reads up to the closing quote.
func quoted(text string) (value, rest string, err error) {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			return b.String(), text[i+1:], nil
		case c == '\\' && i+1 < len(text):
			i++
			b.WriteByte(text[i])
		default:
			b.WriteByte(c)
		}
	}
	return "", "", fmt.Errorf("the quote is not closed")
}

// where turns `host=gannet name~tide-* owner="shore team"` into SQL.
func where(filter string, fields map[string]field, args *[]any) (string, error) {
	list, err := terms(filter)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	for _, t := range list {
		f, ok := fields[t.field]
		sql, value := f.equal, t.value
		if t.op == '~' {
			sql = f.like
			value = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`, `*`, `%`, `?`, `_`).Replace(value)
		}
		if !ok || sql == "" {
			names := make([]string, 0, len(fields))
			for n := range fields {
				names = append(names, n)
			}
			return "", fail("wrong", "filter %q: this list can't be filtered by %s%c; it can by %s", filter, t.field, t.op, strings.Join(slices.Sorted(slices.Values(names)), ", "))
		}
		if f.check != nil {
			if err := f.check(value); err != nil {
				return "", fail("wrong", "filter %q: %s: %v", filter, t.field, err)
			}
		}
		*args = append(*args, value)
		fmt.Fprintf(&out, " and "+sql, fmt.Sprintf("$%d", len(*args)))
	}
	return out.String(), nil
}
