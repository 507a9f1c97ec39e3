package standin_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/driver/drivertest"
	"unvora.example/unvora/internal/agent/driver/standin"
)

func TestConforms(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "disk1.raw"), make([]byte, 1<<20), 0o600))
	again := func() driver.Driver { return standin.New(nil, nil, disk.OS) }
	drivertest.Conform(t, drivertest.Sample{Driver: again(), Folder: folder, Again: again,
		Machine: &machine.Machine{Name: "ferry-display", CPUs: 1, MemoryBytes: 64 << 20,
			Disks: []machine.Disk{{ID: "disk1", File: "disk1.raw", Format: "raw"}}}})
}
