package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	openapi "unvora.example/unvora/api"
)

// placeName stands for the name of a package in the place of several.
const placeName = "{name}"

// destinations is where the packages of several machines go: a shelf, a pool, or a directory on this computer.
func (a *app) destinations(ctx context.Context, c *caller, dest, shape string) (*openapi.Destination, *local, error) {
	if dest == "-" {
		return nil, nil, usage("standard output takes one package: several go to a directory, a shelf or a pool")
	}
	if shape != "" && shape != shapeOVA && shape != shapeFolder {
		return nil, nil, usage("--shape %q: ova or folder", shape)
	}
	shelf, err := a.shelf(ctx, c, placeName, dest, shape)
	if shelf != nil && shelf.File != nil {
		at, _, _ := strings.Cut(*shelf.Place, "/")
		err = usage("%s: of several machines each gets a package of its own: name %s alone", dest, at)
	}
	if shelf != nil || err != nil {
		return shelf, nil, err
	}
	dir, err := filepath.Abs(dest)
	if err != nil {
		return nil, nil, err
	}
	st, err := os.Stat(dir)
	absent := errors.Is(err, fs.ErrNotExist)
	switch {
	case absent:
		if err := madeFirst(dir, dest); err != nil {
			return nil, nil, err
		}
	case err != nil:
		return nil, nil, &exit{statusFailed, err}
	case !st.IsDir():
		return nil, nil, usage("%s is a file: packages of several machines go to a directory, a shelf or a pool", dest)
	}
	host, err := os.Hostname()
	if err != nil {
		host = "this computer"
	}
	to := &local{path: dir, several: true, absent: absent, folder: shape == shapeFolder}
	place := host + ":" + filepath.Join(dir, placeName)
	if to.folder {
		place += "/"
	} else {
		place += ".ova"
	}
	return &openapi.Destination{Place: &place}, to, nil
}

// one is the package of one of several, by the place that its job has for it.
func (l *local) one(place string) (*local, error) {
	at, _, _ := placed(place)
	_, path, _ := strings.Cut(at, ":")
	own := &local{path: filepath.Clean(path), folder: l.folder, signs: l.signs, parts: l.parts}
	if filepath.Dir(own.path) != l.path { // what the service says is not what was asked for
		return nil, usage("the service wants %q to be written, which is not in %s", place, l.path)
	}
	return own, nil
}

// ready makes the directory that packages come into, where it is not there; drop takes it away if nothing came.
func (l *local) ready() (drop func(), err error) {
	if !l.absent {
		return func() {}, nil
	}
	if err := os.Mkdir(l.path, 0o755); err != nil {
		return nil, &exit{statusFailed, err}
	}
	return func() { _ = os.Remove(l.path) }, nil // only where it is empty
}

// takePackages writes the package of each of several jobs as soon as it has one to give.
func (a *app) takePackages(ctx context.Context, c *caller, j *openapi.Job, to *local) error {
	group, ctx := errgroup.WithContext(ctx)
	taken := map[string]bool{}
	for {
		list, err := a.children(ctx, c, j)
		if err != nil {
			return errors.Join(err, group.Wait())
		}
		if len(list) == 0 { // all of them came to one
			list = []openapi.Job{*j}
		}
		left := false
		for _, child := range list {
			if over(child) {
				continue
			}
			left = true
			if taken[child.Id] || child.State != openapi.JobStateWorking {
				continue
			}
			taken[child.Id] = true
			group.Go(func() error { return a.takeOne(ctx, c, child.Id, to) })
		}
		if !left {
			return group.Wait()
		}
		select {
		case <-time.After(time.Second / 4):
		case <-ctx.Done():
			return group.Wait()
		}
	}
}

// takeOne writes the package of one of several jobs. What can't be written here ends that job, and no other.
func (a *app) takeOne(ctx context.Context, c *caller, job string, to *local) error {
	var place string
	err := a.retry(ctx, func() error {
		t, err := a.offer(ctx, c, job)
		if err == nil {
			place = t.Give.Place
		}
		return err
	})
	if err != nil || place == "" {
		return err
	}
	own, err := to.one(place)
	if err == nil {
		if _, there := os.Lstat(own.path); there == nil {
			err = usage("%s exists already; nothing is written over", own.path)
		} else {
			err = a.takePackage(ctx, c, job, own)
		}
	}
	if err == nil || ctx.Err() != nil {
		return nil
	}
	a.say(a.errOut, "%v; cancelling the job %s …", err, job)
	res, e := c.CancelJob(ctx, job)
	_, e = call[openapi.Job](c, res, e)
	return e
}

// here is a path of this computer, so that it is told from one of a shelf.
func here(path string) string {
	if path = fromHere(path); !filepath.IsAbs(path) {
		path = "." + string(filepath.Separator) + path
	}
	return path
}

// writtenTo says which packages are written: to a place here, or to that which the service names.
func (a *app) writtenTo(ctx context.Context, c *caller, j *openapi.Job, to *local, place string) {
	if j.ChildStates == nil {
		if to != nil {
			place = here(to.path)
		}
		_, much := a.packageOf(ctx, c, j, "")
		fmt.Fprintf(a.out, "%s is written%s%s.\n", place, much, took(j))
		return
	}
	list, err := a.children(ctx, c, j)
	if err != nil {
		a.say(a.errOut, "%v", err)
		return
	}
	if slices.ContainsFunc(list, func(k openapi.Job) bool { return k.State != openapi.JobStateDone }) {
		a.showChildren(list, false)
		return
	}
	shown, more := namedMade(list)
	for i := range shown {
		at, much := a.packageOf(ctx, c, &shown[i], shown[i].Subject)
		if to != nil && at != shown[i].Subject { // it is known where
			at = here(filepath.Join(to.path, filepath.Base(at)))
		}
		fmt.Fprintf(a.out, "%s: %s is written%s.\n", shown[i].Subject, at, much)
	}
	if more > 0 {
		fmt.Fprintf(a.out, "And %d more like these.\n", more)
	}
	fmt.Fprintf(a.out, "Done%s.\n", took(j))
}

// packageOf is where the package lies that a job has made, and ", 54 MiB": what it takes. Where the service does not
// tell, that is what is given, and nothing.
func (a *app) packageOf(ctx context.Context, c *caller, j *openapi.Job, otherwise string) (at, much string) {
	if j.NewCopy == nil {
		return otherwise, ""
	}
	res, err := c.GetCopy(ctx, &openapi.GetCopyParams{Name: *j.NewCopy})
	k, err := call[openapi.Copy](c, res, err)
	if err != nil {
		return otherwise, ""
	}
	if k.SizeBytes > 0 {
		much = ", " + size(k.SizeBytes)
	}
	return place(k), much
}
