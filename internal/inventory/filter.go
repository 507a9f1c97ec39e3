package inventory

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/alecthomas/participle/v2"
	"github.com/alecthomas/participle/v2/lexer"
	"github.com/google/uuid"

	"unvora.example/unvora/core/machine"
)

// field is what a filter may ask of a list.
type field struct {
	equal string // SQL with %s where the argument goes, or %[1]s for each of several places
	like  string // likewise, of a pattern; "" when only = makes sense
	check func(value string) error
	noun  string // what its values name, of nouns; "" for what is no name
	// Table of what is named, whose ids go into equal; "" where the name does. The database then knows how rare it is.
	among string
	many  string // SQL instead of equal where more bear the name than can be handed over
	ids   map[string][]uuid.UUID
}

// mostIDs is how many ids are handed to the database for a name.
const mostIDs = 1000

// settled looks up what the names of a filter are of.
func settled(ctx context.Context, q Querier, filter string, fields map[string]field) (map[string]field, error) {
	list, err := terms(filter)
	if err != nil {
		return nil, err
	}
	now := maps.Clone(fields)
	for _, t := range list {
		f := now[t.Field]
		if f.among == "" || t.Op != "=" {
			continue
		}
		found, err := rows[struct{ ID uuid.UUID }](ctx, q, `select id from `+f.among+`
			where sort = lower($1) limit $2`, t.Value, mostIDs+1)
		if err != nil {
			return nil, err
		}
		if len(found) > mostIDs && f.many != "" {
			now[t.Field] = field{equal: f.many, noun: f.noun}
			continue
		}
		ids := []uuid.UUID{}
		for _, x := range found {
			ids = append(ids, x.ID)
		}
		if f.ids = maps.Clone(f.ids); f.ids == nil {
			f.ids = map[string][]uuid.UUID{}
		}
		f.ids[t.Value] = ids
		now[t.Field] = f
	}
	return now, nil
}

// nouns are the names that filters and rules lead to, with the query that lists them.
var nouns = map[string]string{
	"host":    `select name from hosts`,
	"pool":    `select name from pools`,
	"manager": `select name from managers`,
	"label":   `select distinct unnest(labels) as name from pools`,
	"segment": `select segment as name from switches where segment <> '' union select name from segments`,
}

// mostTold is how many names an error lists.
const mostTold = 12

// known refuses a name that there is not, and says which there are.
func known(ctx context.Context, q Querier, noun, name string) error {
	there := false
	if err := q.QueryRow(ctx, `select exists (select 1 from (`+nouns[noun]+`) x where lower(x.name) = lower($1))`,
		name).Scan(&there); err != nil || there {
		return err
	}
	list, err := rows[struct{ Name string }](ctx, q, `select distinct x.name from (`+nouns[noun]+`) x
		order by x.name limit $1`, mostTold+1)
	if err != nil {
		return err
	}
	var names []string
	for _, row := range list {
		names = append(names, row.Name)
	}
	if len(names) > mostTold {
		names = append(names[:mostTold], "…")
	}
	switch len(names) {
	case 0:
		return Wrong("There is no %s %q, nor any other.", noun, name)
	case 1:
		return Wrong("There is no %s %q; there is %s only.", noun, name, names[0])
	}
	return Wrong("There is no %s %q; there are %s.", noun, name, strings.Join(names, ", "))
}

// knownAll refuses the first name that there is not. Empty ones are none.
func knownAll(ctx context.Context, q Querier, named ...[2]string) error {
	for _, n := range named {
		if n[1] != "" {
			if err := known(ctx, q, n[0], n[1]); err != nil {
				return err
			}
		}
	}
	return nil
}

// knownIn refuses a filter that names what there is not: nothing will ever match it.
func knownIn(ctx context.Context, q Querier, filter string, fields map[string]field) error {
	list, err := terms(filter)
	if err != nil {
		return err
	}
	for _, t := range list {
		if noun := fields[t.Field].noun; noun != "" && t.Op == "=" {
			if err := known(ctx, q, noun, t.Value); err != nil {
				return err
			}
		}
	}
	return nil
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

// joined writes words of one kind one behind the other.
func joined[T ~string](list []T, between string) string {
	words := make([]string, len(list))
	for i, w := range list {
		words[i] = string(w)
	}
	return strings.Join(words, between)
}

// oneOf takes a value of a list only.
func oneOf[T ~string](values ...T) func(string) error {
	return func(value string) error {
		if !slices.Contains(values, T(value)) {
			return fmt.Errorf("there is no %q; there are %s", value, joined(values, ", "))
		}
		return nil
	}
}

// filterText is a filter as it is written: FIELD=VALUE and FIELD~PATTERN with spaces between them. A value with spaces
// is put into quotes, in which a backslash takes the next character as it is.
type filterText struct {
	Terms []*term `parser:"Space? (@@ (Space @@)* Space?)?"`
}

// term is one condition of a filter.
type term struct {
	Field string `parser:"@Word"`
	Op    string `parser:"@Op"`
	Value string `parser:"(@Quoted | @(Word | Op)+)"`
}

var filterParser = participle.MustBuild[filterText](
	participle.Lexer(lexer.MustSimple([]lexer.SimpleRule{
		{Name: "Quoted", Pattern: `"(\\.|[^"\\])*"`},
		{Name: "Op", Pattern: `[=~]`},
		{Name: "Space", Pattern: `\s+`},
		{Name: "Word", Pattern: `[^=~\s"][^=~\s]*`},
	})),
	participle.Map(unquote, "Quoted"),
)

var escaped = regexp.MustCompile(`\\(.)`)

// unquote takes the quotes off a value.
func unquote(t lexer.Token) (lexer.Token, error) {
	t.Value = escaped.ReplaceAllString(t.Value[1:len(t.Value)-1], "$1")
	return t, nil
}

// terms reads a filter.
func terms(filter string) ([]*term, error) {
	text, err := filterParser.ParseString("", filter)
	var wrong participle.Error
	if errors.As(err, &wrong) {
		at := min(wrong.Position().Offset, len(filter))
		return nil, Wrong("filter %q: at %q: it takes FIELD=VALUE or FIELD~PATTERN, with spaces between "+
			"them, and "+
			"values with spaces in quotes",
			filter, filter[at:])
	}
	if err != nil {
		return nil, err
	}
	for _, t := range text.Terms {
		if t.Value == "" {
			return nil, Wrong("filter %q: %s%s has no value", filter, t.Field, t.Op)
		}
	}
	return text.Terms, nil
}

// likePattern turns * and ? into what SQL's like takes, and everything else into itself.
var likePattern = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`, `*`, `%`, `?`, `_`)

// where turns `host=gannet name~tide-* owner="shore team"` into conditions in SQL.
func where(filter string, fields map[string]field, args *[]any) (conditions []string, err error) {
	list, err := terms(filter)
	if err != nil {
		return nil, err
	}
	for _, t := range list {
		f, ok := fields[t.Field]
		sql, value := f.equal, t.Value
		if t.Op == "~" {
			sql, value = f.like, likePattern.Replace(t.Value)
		}
		if !ok || sql == "" {
			return nil, Wrong("filter %q: this list can't be filtered by %s%s; it can by %s", filter, t.Field,
				t.Op, strings.Join(slices.Sorted(maps.Keys(fields)), ", "))
		}
		if f.check != nil {
			if err := f.check(value); err != nil {
				return nil, Wrong("filter %q: %s: %v", filter, t.Field, err)
			}
		}
		if ids, named := f.ids[value]; named {
			*args = append(*args, ids)
		} else {
			*args = append(*args, value)
		}
		conditions = append(conditions, fmt.Sprintf(sql, fmt.Sprintf("$%d", len(*args))))
	}
	return conditions, nil
}
