package inventory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"
)

// Page is which part of a list is wanted.
type Page struct {
	Limit  int    // 0 means 100, at most 1000
	After  string // the Next of the page before
	Filter string
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

// listing is a list that is read page by page, in the order of name and id.
type listing[T any] struct {
	columns string
	from    string
	always  string // condition that holds for all of the list; "" for none
	alias   string // of the table whose name and id give the order
	fields  map[string]field
	key     func(*T) (name string, id uuid.UUID)
}

// sql selects the list's columns, for conditions of another kind.
func (l listing[T]) sql() string { return "select " + l.columns + "\nfrom " + l.from }

// page reads a page, and counts the whole list.
func (l listing[T]) page(ctx context.Context, q Querier, p Page) (*List[T], error) {
	args := []any{}
	conditions, err := where(p.Filter, l.fields, &args)
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
	out := &List[T]{}
	g, both := errgroup.WithContext(ctx) // side by side: counting takes as long as reading
	matching, matched := allOf(conditions), slices.Clone(args)
	g.Go(func() error {
		sql := fmt.Sprintf("select count(*) from (select 1 from %s where %s limit %d) x", l.from, matching, CountCap+1)
		return q.QueryRow(both, sql, matched...).Scan(&out.Count)
	})
	if p.After != "" {
		name, id, ok := cutLast(p.After, "~")
		if _, e := uuid.Parse(id); !ok || e != nil {
			return nil, errors.Join(Wrong("%q is not the next of a page", p.After), g.Wait())
		}
		args = append(args, name, id)
		conditions = append(conditions, fmt.Sprintf("(%s.name, %s.id) > ($%d, $%d::uuid)", l.alias, l.alias,
			len(args)-1,
			len(args)))
	}
	g.Go(func() (err error) {
		sql := fmt.Sprintf("%s where %s order by %s.name, %s.id limit %d", l.sql(), allOf(conditions), l.alias, l.alias,
			p.Limit+1)
		out.Items, err = rows[T](both, q, sql, args...)
		return err
	})
	if err := g.Wait(); err != nil {
		return nil, err
	}
	if len(out.Items) == 0 && p.After == "" {
		if err := knownIn(ctx, q, p.Filter, l.fields); err != nil {
			return nil, err
		}
	}
	if len(out.Items) > p.Limit {
		out.Items = out.Items[:p.Limit]
		name, id := l.key(&out.Items[p.Limit-1])
		out.Next = name + "~" + id.String()
	}
	return out, nil
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
