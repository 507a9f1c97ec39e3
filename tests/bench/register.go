package main

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/BurntSushi/toml"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

// register measures folders whose files stay, through the service: the API is
// called from here, so that no start of a process is in the figures.
func (b *bench) register() error {
	reef := filepath.Join(b.dir, "e/hosts/gannet/reef")
	c, err := b.api()
	if err != nil {
		return err
	}
	var small, large []float64
	for n := range b.runs * 4 {
		for _, size := range []struct {
			name  string
			bytes int64
			into  *[]float64
		}{{"small", gib, &small}, {"large", 1024 * gib, &large}} {
			name := fmt.Sprintf("%s-%d", size.name, n)
			if err := makeFolder(filepath.Join(reef, name), name, size.bytes); err != nil {
				return err
			}
			secs, err := timed(func() error { return registerThem(c, "reef/"+name) })
			if err != nil {
				return err
			}
			*size.into = append(*size.into, secs)
		}
	}
	b.row([]any{"register, files stay, disk of 1 GiB", fmt.Sprintf("%.0f ms", median(small)*1000), "", "", "",
		"100 ms"})
	b.row([]any{"the same, disk of 1 TiB", fmt.Sprintf("%.0f ms", median(large)*1000), "disk of 1 GiB",
		fmt.Sprintf("%.0f ms", median(small)*1000), fmt.Sprintf("%.2f", median(large)/median(small)), "1.20"})
	const many = 1000
	var names []string
	for n := range many {
		name := fmt.Sprintf("many-%04d", n)
		if err := makeFolder(filepath.Join(reef, name), name, gib); err != nil {
			return err
		}
		names = append(names, "reef/"+name)
	}
	secs, err := timed(func() error { return registerThem(c, names...) })
	if err != nil {
		return err
	}
	b.row([]any{fmt.Sprintf("%d machines registered in one job, each", many), fmt.Sprintf("%.0f ms", secs*1000/many),
		"", "", "", "20 ms"})
	took, err := timed(func() error {
		_, err := c.ListJobsWithResponse(context.Background(), &openapi.ListJobsParams{})
		return err
	})
	if err != nil {
		return err
	}
	b.row([]any{"the list of jobs behind that", fmt.Sprintf("%.0f ms", took*1000), "", "", "", "20 ms"})
	return nil
}

func (b *bench) api() (*openapi.ClientWithResponses, error) {
	var profile struct{ Server, Token string }
	if _, err := toml.DecodeFile(filepath.Join(b.dir, "e/client.toml"), &profile); err != nil {
		return nil, err
	}
	return openapi.NewClientWithResponses(profile.Server+"/api/v1",
		openapi.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+profile.Token)
			return nil
		}))
}

// registerThem starts the job and waits for its end, as the client does.
func registerThem(c *openapi.ClientWithResponses, folders ...string) error {
	ctx := context.Background()
	yes := true
	var req openapi.Request
	if err := req.FromRegisterRequest(openapi.RegisterRequest{Folders: folders, Host: "gannet",
		TakeRecommended: &yes}); err != nil {
		return err
	}
	j, err := c.StartJobWithResponse(ctx, &openapi.StartJobParams{}, req)
	if err != nil {
		return err
	}
	if j.JSON202 == nil {
		return fmt.Errorf("register: %s", bytes.TrimSpace(j.Body))
	}
	return ended(c, j.JSON202.Id, time.Duration(len(folders))*2*time.Millisecond)
}

// ended waits for a job's end, and looks again after a while.
func ended(c *openapi.ClientWithResponses, job string, again time.Duration) error {
	for {
		s, err := c.GetJobWithResponse(context.Background(), job)
		if err != nil {
			return err
		}
		switch {
		case s.JSON200 == nil:
			return fmt.Errorf("job: %s", s.Body)
		case s.JSON200.State == openapi.JobStateDone:
			return nil
		case slices.Contains([]openapi.JobState{openapi.JobStateFailed, openapi.JobStatePartly,
			openapi.JobStateHeld, openapi.JobStateCancelled}, s.JSON200.State):
			return fmt.Errorf("job: %s", s.Body)
		}
		time.Sleep(again)
	}
}

// makeFolder writes a machine folder with one disk, of which a little is data.
func makeFolder(folder, name string, size int64) error {
	if err := os.Mkdir(folder, 0o755); err != nil {
		return err
	}
	m := &machine.Machine{Name: name, CPUs: 1, MemoryBytes: gib, Firmware: "bios", Guest: "Debian GNU/Linux 12",
		GuestID: 96,
		Disks: []machine.Disk{{ID: "disk1", File: "disk1.qcow2", Format: "qcow2", VirtualBytes: size,
			Controller: "virtio-scsi"}},
		NICs: []machine.NIC{{Name: "NIC 1", Model: "virtio", Network: "lab"}}}
	d, err := ovf.New(m)
	if err != nil {
		return err
	}
	raw, err := d.Encode(0)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(folder, name+".ovf"), raw, 0o644); err != nil {
		return err
	}
	format, err := formats.ByName("qcow2")
	if err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(folder, "disk1.qcow2"))
	if err != nil {
		return err
	}
	defer f.Close()
	file, err := disk.OpenFile(f)
	if err != nil {
		return err
	}
	img, err := format.Create(file, disk.Spec{VirtualBytes: size,
		ID: strings.Repeat("0", 8) + "-0000-4000-8000-" + fmt.Sprintf("%012x", time.Now().UnixNano()&(1<<48-1))})
	if err != nil {
		return err
	}
	if err := img.Put(0, bytes.Repeat([]byte("tide"), 16<<10), 64<<10); err != nil {
		return err
	}
	if err := img.Finish(); err != nil || os.Getuid() != 0 {
		return err
	}
	return owned(folder)
}

// agentAccount is the account that the demo's agents run with, where root starts it.
const agentAccount = 65534

// owned gives a folder, and what is in it, to the agents.
func owned(folder string) error {
	return filepath.WalkDir(folder, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chown(path, agentAccount, agentAccount)
	})
}
