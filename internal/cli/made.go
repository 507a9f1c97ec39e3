package cli

import (
	"context"
	"fmt"
	"strings"

	openapi "unvora.example/unvora/api"
)

// took says how long a job was at work: " in 2 s". One over several machines counts from when it was made.
func took(j *openapi.Job) string {
	if j.FinishedAt == nil {
		return ""
	}
	began := j.CreatedAt
	if j.StartedAt != nil {
		began = *j.StartedAt
	}
	return " in " + seconds(j.FinishedAt.Sub(began).Seconds())
}

func (a *app) detached(j *openapi.Job) error {
	return a.print(j, func() {
		how := "is at work"
		if j.StartAt != nil {
			how = "begins at " + j.StartAt.Local().Format("2006-01-02 15:04")
		}
		fmt.Fprintf(a.out, "The job %s %s: unvora jobs %s\n", j.Id, how, j.Id)
	})
}

// mostNamedMade is how many copies of a job are told one by one: no more than a class.
const mostNamedMade = 24

// namedMade are those of what a job has made that are told one by one, and how many more there are. One more alone
// takes a line either way.
func namedMade[T any](made []T) (shown []T, more int) {
	if more = len(made) - mostNamedMade; more <= 1 {
		return made, 0
	}
	return made[:mostNamedMade], more
}

// registered tells of the copies that a job has made.
func (a *app) registered(ctx context.Context, c *caller, j *openapi.Job) error {
	ids := []string{}
	switch {
	case j.NewCopies != nil && len(*j.NewCopies) > 0:
		ids = *j.NewCopies
	case j.NewCopy != nil:
		ids = append(ids, *j.NewCopy)
	}
	var made []openapi.Copy
	shown, more := namedMade(ids)
	for _, id := range shown {
		k, err := patiently(ctx, func() (openapi.Copy, error) {
			res, err := c.GetCopy(ctx, &openapi.GetCopyParams{Name: id})
			return call[openapi.Copy](c, res, err)
		})
		if err != nil {
			return err
		}
		made = append(made, k)
	}
	return a.print(j, func() {
		for _, k := range made {
			a.hung(a.out, "", fmt.Sprintf("%s is registered, %s. Identity %s.%s", place(k), k.State,
				identityWords(k), macWords(k)))
		}
		if more > 0 {
			fmt.Fprintf(a.out, "And %d more like these.\n", more)
		}
		fmt.Fprintf(a.out, "Done%s. See what descends from what: unvora where %s\n", took(j), namely(made[0]))
	})
}

// namely is what a copy is called by so that no other is meant.
func namely(k openapi.Copy) string {
	if k.Form == openapi.CopyFormRegistered || k.Form == openapi.CopyFormPackage && firstOf(k.Shelf, k.Pool) != "" {
		return place(k)
	}
	return k.Id
}

// macWords names the MACs of a copy: " MAC 06:5c:00:01:02:03."
func macWords(k openapi.Copy) string {
	switch len(k.Macs) {
	case 0:
		return ""
	case 1:
		return " MAC " + k.Macs[0] + "."
	}
	return " MACs " + strings.Join(k.Macs, ", ") + "."
}
