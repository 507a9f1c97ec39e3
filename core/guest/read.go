package guest

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"github.com/diskfs/go-diskfs/backend"
	"github.com/diskfs/go-diskfs/filesystem/ext4"
	"github.com/masahiro331/go-xfs-filesystem/xfs"
	ntfs "www.velocidex.com/golang/go-ntfs/parser"
	"www.velocidex.com/golang/regparser"
)

// storage lets the library for ext4 read a volume.
type storage struct{ *io.SectionReader }

var errReadOnly = errors.New("it is only read")

func (storage) Close() error                            { return nil }
func (storage) Sys() (*os.File, error)                  { return nil, backend.ErrNotSuitable }
func (storage) Writable() (backend.WritableFile, error) { return nil, errReadOnly }
func (storage) Path() string                            { return "" }
func (s storage) Stat() (fs.FileInfo, error)            { return info{s.Size()}, nil }

// info is what the library asks of a file: its size.
type info struct{ size int64 }

func (info) Name() string       { return "volume" }
func (i info) Size() int64      { return i.size }
func (info) Mode() fs.FileMode  { return 0 }
func (info) ModTime() time.Time { return time.Time{} }
func (info) IsDir() bool        { return false }
func (info) Sys() any           { return nil }

type extFiles struct{ *ext4.FileSystem }

func openExt(v *io.SectionReader) (files, error) {
	f, err := ext4.Read(storage{v}, v.Size(), 0, sector)
	if err != nil {
		return nil, err
	}
	return extFiles{f}, nil
}

func (f extFiles) read(name string) ([]byte, error) {
	file, err := f.OpenFile("/"+name, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(io.LimitReader(file, mostFile))
}

func (f extFiles) list(name string) (names []string, err error) {
	entries, err := f.ReadDir(name)
	for _, e := range entries {
		if e.Name() != "." && e.Name() != ".." {
			names = append(names, e.Name())
		}
	}
	return names, err
}

type xfsFiles struct{ *xfs.FileSystem }

// nothing remembers nothing: a disk is looked at once.
type nothing struct{}

func (nothing) Add(string, any) bool   { return false }
func (nothing) Get(string) (any, bool) { return nil, false }

func openXFS(v *io.SectionReader) (files, error) {
	f, err := xfs.NewFS(*io.NewSectionReader(v, 0, v.Size()), nothing{})
	if err != nil {
		return nil, err
	}
	return xfsFiles{f}, nil
}

func (f xfsFiles) read(name string) ([]byte, error) {
	file, err := f.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(io.LimitReader(file, mostFile))
}

func (f xfsFiles) list(name string) (names []string, err error) {
	entries, err := f.ReadDir(name)
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names, err
}

// hive is a file of the Windows registry.
type hive struct{ *regparser.Registry }

func openHive(v *io.SectionReader, name string) (*hive, error) {
	ctx, err := ntfs.GetNTFSContext(v, 0)
	if err != nil {
		return nil, err
	}
	src, err := ntfs.GetDataForPath(ctx, name)
	if err != nil {
		return nil, err
	}
	r, err := regparser.NewRegistry(src)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return &hive{r}, nil
}

// values of a key that are text, by name.
func (h *hive) values(key string) map[string]string {
	all := map[string]string{}
	node := h.OpenKey(key)
	if node == nil {
		return all
	}
	for _, v := range node.Values() {
		if d := v.ValueData(); d.Type == regparser.REG_SZ {
			all[v.ValueName()] = strings.TrimRight(d.String, "\x00")
		}
	}
	return all
}

// keys lists the names of a key's children.
func (h *hive) keys(key string) (names []string) {
	node := h.OpenKey(key)
	if node == nil {
		return nil
	}
	for _, k := range node.Subkeys() {
		names = append(names, path.Base(k.Name()))
	}
	return names
}
