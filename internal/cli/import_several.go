package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/ovf"
)

// isPackage tells whether a source is a package, by its name or by what it holds.
func isPackage(source string) bool {
	switch strings.ToLower(filepath.Ext(source)) {
	case ".ova", ".ovf":
		return true
	}
	st, err := os.Stat(source)
	if err != nil || st.IsDir() {
		return err == nil
	}
	f, err := os.Open(source)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, tarMagicAt+len(tarMagic))
	_, err = io.ReadFull(f, head)
	return err == nil && string(head[tarMagicAt:]) == tarMagic
}

// What an archive bears in its first header (POSIX.1-1988, ustar), and where.
const (
	tarMagic   = "ustar"
	tarMagicAt = 257
)

// inFolders tells whether directories hold one package between them: its descriptor lies in one.
func inFolders(dirs []string) bool {
	descriptors := 0
	for _, dir := range dirs {
		st, err := os.Stat(dir)
		if err != nil || !st.IsDir() {
			return false
		}
		list, err := os.ReadDir(dir)
		if err != nil {
			return false
		}
		if slices.ContainsFunc(list, func(f fs.DirEntry) bool {
			return strings.EqualFold(filepath.Ext(f.Name()), ".ovf")
		}) {
			descriptors++
		}
	}
	return descriptors == 1
}

// openPackage opens a package at a path, or in several directories.
func openPackage(paths []string) (*ovf.Opened, error) {
	if len(paths) == 1 {
		return ovf.OpenPath(paths[0])
	}
	return ovf.OpenFolders(disk.OS, paths)
}

// bringEach brings several packages in, one after the other: what one can't do stops no other.
func (a *app) bringEach(ctx context.Context, sources []string, o *importFlags, files string, s *settling) error {
	for _, source := range sources {
		if !isPackage(source) {
			return usage("%s is no package: several packages, or the disks of one machine, are brought in by one call",
				source)
		}
	}
	if o.name != "" {
		return usage("--name is for one machine: %d packages keep the names in them", len(sources))
	}
	var failed []string
	worst := statusDone
	told, end := a.together()
	for _, source := range sources {
		req, err := o.request()
		if err != nil {
			return err
		}
		req.Files = (*openapi.ImportRequestFiles)(optional(files))
		one := *s
		a.say(a.errOut, "%s:", source)
		err = a.bringIn(ctx, []string{source}, req, &one)
		told()
		if err == nil {
			continue
		}
		var e *exit
		if !errors.As(err, &e) {
			e = &exit{statusFailed, err}
		}
		if e.status == statusCancelled || e.status == statusUnreachable {
			return errors.Join(err, end())
		}
		failed, worst = append(failed, source), max(worst, e.status)
		if said := e.Error(); said != "" {
			fmt.Fprintln(a.errOut, a.paint(red, said))
		}
	}
	switch err := end(); {
	case err != nil || len(failed) == 0:
		return err
	case s.planOnly:
		return &exit{worst, errors.New("")}
	}
	return &exit{worst, fmt.Errorf("%d of %d were not brought in: %s", len(failed), len(sources),
		strings.Join(failed, ", "))}
}
