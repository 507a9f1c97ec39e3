package demo

import (
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
)

// agentsAccount is the account that agents run as where the demo is root's: they need
// no more than their pools, which become that account's. It is nil, which is
// the demo's own, where nobody else may pass through to the program or the pools.
func agentsAccount(dir, program string) (*syscall.Credential, error) {
	if os.Geteuid() != 0 || !passable(dir) || !passable(filepath.Dir(program)) {
		return nil, nil
	}
	c, err := account("unvora-agent", "nobody")
	if c == nil || err != nil {
		return nil, err
	}
	for _, part := range []string{"hosts", "share"} {
		err := filepath.WalkDir(filepath.Join(dir, part), func(path string, _ fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			return os.Lchown(path, int(c.Uid), int(c.Gid)) // a link is never followed
		})
		if err != nil {
			return nil, fmt.Errorf("give the agents' files to their account: %w", err)
		}
	}
	return c, nil
}

// told says as whom the agents run, where that is somebody else.
func told(c *syscall.Credential) string {
	if c == nil {
		return ""
	}
	u, err := user.LookupId(strconv.FormatUint(uint64(c.Uid), 10))
	if err != nil {
		return ""
	}
	return fmt.Sprintf("Agents run as %s: what you put into their pools by hand has to belong to that account.\n",
		u.Username)
}
