package demo

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/cimi/standin"
)

// The management server of the partner institute on the mainland.
const (
	managerName    = "mainland"
	managerAccount = "skerrow"
	managerReader  = "visitor" // may only look
)

// mainland is what the server holds: one of its hosts hands out the disks of
// machines that run, the other does not.
var mainland = []struct {
	sampleMachine
	host    string
	network string
	state   string
}{
	{sampleMachine{name: "surge-forecast", guest: debian, guestID: debianID, cpus: 4, memoryMiB: 8192,
		disks: []sampleDisk{{id: "disk1", sizeMiB: 1024, dataMiB: 32}, {id: "disk2", sizeMiB: 1024, dataMiB: 16}}},
		"dunlin", "laboratory", cimi.Stopped},
	{sampleMachine{name: "swell-archive", guest: debian, guestID: debianID, cpus: 2, memoryMiB: 4096,
		disks: []sampleDisk{{id: "disk1", sizeMiB: 1024, dataMiB: 24}}}, "dunlin", "laboratory", cimi.Started},
	{sampleMachine{name: "ferry-notices", guest: debian, guestID: debianID, cpus: 1, memoryMiB: 2048,
		disks: []sampleDisk{{id: "disk1", sizeMiB: 512, dataMiB: 16}}}, "knot", "public", cimi.Started},
}

func managerDir(dir string) string { return filepath.Join(dir, "managers", managerName) }

// buildManager makes the server's directory once.
func buildManager(dir string, port int, password string) error {
	root := managerDir(dir)
	if _, err := os.Stat(filepath.Join(root, "state.json")); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	state := standin.State{
		Name: managerName, Listen: fmt.Sprintf("127.0.0.1:%d", port), Version: "2.0.0",
		Accounts: []standin.Account{{Name: managerAccount, Password: password},
			{Name: managerReader, Password: password, Reader: true}},
		Hosts:    []standin.Host{{Name: "dunlin", Live: true}, {Name: "knot"}},
		Networks: []standin.Network{{Name: "laboratory", VLAN: 20}, {Name: "public", VLAN: 60}},
	}
	raw, err := formats.ByName("raw")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(root, "volumes"), 0o755); err != nil {
		return err
	}
	for i, s := range mainland {
		m := standin.Machine{ID: s.name, Name: s.name, Host: s.host, State: s.state, CPUs: s.cpus,
			MemoryKiB: s.memoryMiB << 10, Updated: time.Now(),
			NICs:       []standin.NIC{{Network: s.network, MAC: fmt.Sprintf("0a:77:00:00:00:%02x", i+1)}},
			Properties: map[string]string{"uuid": sampleUUID("uuid " + s.name), "guest": s.guest}}
		for n, d := range s.disks {
			id := s.name + "-" + d.id
			if err := d.make(standin.VolumePath(root, id), raw, s.sampleMachine, n == 0); err != nil {
				return err
			}
			m.Volumes = append(m.Volumes, id)
			state.Volumes = append(state.Volumes, standin.Volume{ID: id, Name: s.name + " " + d.id,
				Bytes:    d.sizeMiB * mib,
				Bootable: n == 0})
		}
		state.Machines = append(state.Machines, m)
	}
	return standin.Save(root, state)
}

// addManager adds the server, trusting the certificate that lies beside it.
func addManager(ctx context.Context, s *supervisor, c *openapi.ClientWithResponses, dir string, k *kept) error {
	return waitFor(ctx, s, "manager-"+managerName, func() error {
		if there, err := c.GetManagerWithResponse(ctx, managerName); err != nil || there.JSON200 != nil {
			return err
		}
		raw, err := os.ReadFile(filepath.Join(managerDir(dir), "cert.pem"))
		if err != nil {
			return err
		}
		block, _ := pem.Decode(raw)
		if block == nil {
			return errors.New("its certificate can't be read")
		}
		cert, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return err
		}
		added, err := c.AddManagerWithResponse(ctx, openapi.AddManager{Name: managerName,
			Address: fmt.Sprintf("https://127.0.0.1:%d/cimi", k.ManagerPort), Account: new(managerAccount),
			Password: &k.ManagerPassword, Trust: new(cimi.Fingerprint(cert))})
		if err == nil && added.JSON201 == nil {
			err = fmt.Errorf("add the manager %s: %s", managerName, added.Body)
		}
		return err
	})
}
