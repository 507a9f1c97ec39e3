package inventory

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Page is which part of a list is wanted.
type Page struct {
	Limit  int    // 0 means 100, at most 1000
	After  string // the Next of the page before
	Filter string
	Order  string // what it is sorted by, "-" before it for the other way round; "" for the name
}

// List is a page of a list.
type List[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"` // "" at the end
	Count int    `json:"count"`          // of all that match the filter, up to CountCap+1
}

const (
	mostLimit  = 1000
	usualLimit = 100
)

func checkLimit(limit int) error {
	if limit < 1 || limit > mostLimit {
		return Wrong("A page has from 1 to %d items, not %d.", mostLimit, limit)
	}
	return nil
}

// CountCap is how far a list is counted.
const CountCap = 10_000

// listing is a list that is read page by page, in the order of name and id, or of another column and id.
type listing[T any] struct {
	columns string
	from    string
	counted string // tables that suffice to count it; "" for those of from
	always  string // condition that holds for all of the list; "" for none
	alias   string // of the table whose column sort, of its name, and id give the order
	fields  map[string]field
	key     func(*T) (name string, id uuid.UUID)
	orders  map[string]ordering[T] // others than by name, each with an index
}

// ordering is a column that a list can be sorted by.
type ordering[T any] struct {
	column, kind string // of the list's table, and its type
	value        func(*T) string
}

// by finds what a page is to be sorted by, and whether the other way round.
func (l listing[T]) by(order string) (o ordering[T], down bool, err error) {
	name, down := strings.CutPrefix(order, "-")
	if name == "" || name == "name" {
		return ordering[T]{"sort", "text", func(x *T) string { name, _ := l.key(x); return name }}, down, nil
	}
	o, ok := l.orders[name]
	if !ok {
		names := append(slices.Sorted(maps.Keys(l.orders)), "name")
		err = Wrong("The list can't be sorted by %q. It can be by %s, with - before it for the other way round.", name,
			strings.Join(names, ", "))
	}
	return o, down, err
}

// sql selects the list's columns, for conditions of another kind.
func (l listing[T]) sql() string { return "select " + l.columns + "\nfrom " + l.from }

// page reads a page, and counts the whole list.
func (l listing[T]) page(ctx context.Context, q Querier, p Page) (*List[T], error) {
	args := []any{}
	fields, err := settled(ctx, q, p.Filter, l.fields)
	if err != nil {
		return nil, err
	}
	conditions, err := where(p.Filter, fields, &args)
	if err != nil {
		return nil, err
	}
	if l.always != "" {
		conditions = append(conditions, l.always)
	}
	if p.Limit == 0 {
		p.Limit = usualLimit
	}
	if err := checkLimit(p.Limit); err != nil {
		return nil, err
	}
	o, down, err := l.by(p.Order)
	if err != nil {
		return nil, err
	}
	column, way, past := l.alias+"."+o.column, "", ">"
	if down {
		way, past = " desc", "<"
	}
	out := &List[T]{}
	matching := allOf(conditions)
	count := fmt.Sprintf("select count(*) from (select 1 from %s where %s limit %d) x", cmp.Or(l.counted, l.from),
		matching, CountCap+1)
	if err := q.QueryRow(ctx, count, args...).Scan(&out.Count); err != nil {
		return nil, err
	}
	first := ""
	if len(conditions) > 0 && out.Count <= CountCap {
		// Few match: they are found first, and put into order then. Else, in order, they come soon.
		first = fmt.Sprintf("with few as materialized (select %s.id, %s from %s where %s) ", l.alias, column,
			cmp.Or(l.counted, l.from), matching)
		conditions = nil
	}
	if p.After != "" {
		at, id, ok := cutLast(p.After, "~")
		if _, e := uuid.Parse(id); !ok || e != nil || !fits(o.kind, at) {
			return nil, Wrong("%q is not the next of a page", p.After)
		}
		args = append(args, at, id)
		value := fmt.Sprintf("$%d::text::%s", len(args)-1, o.kind)
		if o.column == "sort" {
			value = "lower(" + value + ")"
		}
		conditions = append(conditions, fmt.Sprintf("(%s, %s.id) %s (%s, $%d::uuid)", column, l.alias, past, value,
			len(args)))
	}
	order := fmt.Sprintf("order by %s%s, %s.id%s", column, way, l.alias, way)
	limited := fmt.Sprintf("%s limit %d", order, p.Limit+1)
	if first != "" {
		conditions = []string{fmt.Sprintf("%s.id in (select id from few %s where %s %s)", l.alias, l.alias,
			allOf(conditions), limited)}
		limited = order
	}
	sql := fmt.Sprintf("%s%s where %s %s", first, l.sql(), allOf(conditions), limited)
	out.Items, err = rows[T](ctx, q, sql, args...)
	if err != nil {
		return nil, err
	}
	if len(out.Items) == 0 && p.After == "" {
		if err := knownIn(ctx, q, p.Filter, l.fields); err != nil {
			return nil, err
		}
	}
	if len(out.Items) > p.Limit {
		out.Items = out.Items[:p.Limit]
		last := &out.Items[p.Limit-1]
		_, id := l.key(last)
		out.Next = o.value(last) + "~" + id.String()
	}
	return out, nil
}

// pageOf reads a page of a list in the order of names, and what leads to the next. A limit of 0 means as many as there
// may be.
func pageOf[T any](limit int, read func(limit int) ([]T, error), at func(*T) string) (list []T, next string,
	err error) {
	if limit == 0 {
		limit = mostLimit
	}
	if err := checkLimit(limit); err != nil {
		return nil, "", err
	}
	if list, err = read(limit + 1); err != nil || len(list) <= limit {
		return list, "", err
	}
	return list[:limit], at(&list[limit-1]), nil
}

// fits tells whether a text is a value of a type of the database.
func fits(kind, text string) bool {
	var err error
	switch kind {
	case "bigint":
		_, err = strconv.ParseInt(text, 10, 64)
	case "integer":
		_, err = strconv.ParseInt(text, 10, 32)
	case "timestamptz":
		_, err = time.Parse(time.RFC3339Nano, text)
	case "uuid":
		err = uuid.Validate(text)
	}
	return err == nil && !strings.Contains(text, "\x00") // which is no text to the database
}

// allOf joins conditions.
func allOf(conditions []string) string {
	if len(conditions) == 0 {
		return "true"
	}
	return strings.Join(conditions, " and ")
}

func cutLast(s, sep string) (before, after string, ok bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}
