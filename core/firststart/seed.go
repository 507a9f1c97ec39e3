package firststart

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"unvora.example/unvora/core/machine"
)

// File is the disc in a machine's folder, and Drive the name of the drive that it lies in.
const (
	File  = "first-start.iso"
	Drive = "first start"
)

// EnvironmentFile is what the document is called on the disc (DSP0243 1.1, section 11.2).
const EnvironmentFile = "ovf-env.xml"

// Seed is the files of the disc.
type Seed struct {
	MetaData      string `json:"metaData"`
	UserData      string `json:"userData"`
	NetworkConfig string `json:"networkConfig,omitempty"` // "" where nothing is said of its NICs
	Environment   string `json:"environment,omitempty"`   // document that its package asks for; "" for none
}

// Seed is what the machine with an id is told, its NICs having their MACs, and the addresses that they were given.
func (d *Data) Seed(id string, nics []machine.NIC, given map[string]netip.Prefix) (s Seed, err error) {
	meta := map[string]any{"instance-id": id}
	user := map[string]any{}
	if d.HostName != "" {
		short, _, full := strings.Cut(d.HostName, ".")
		meta["local-hostname"] = d.HostName
		user["hostname"], user["preserve_hostname"] = short, false
		if full {
			user["fqdn"] = d.HostName
		}
	}
	if d.TimeZone != "" {
		user["timezone"] = d.TimeZone
	}
	if u := d.User; u != nil {
		user["users"] = []any{"default", map[string]any{"name": u.Name, "shell": "/bin/bash", "lock_passwd": true,
			"sudo": "ALL=(ALL) NOPASSWD:ALL", "ssh_authorized_keys": []string{strings.TrimSpace(u.Key)}}}
	}
	network, first, err := d.network(nics, given)
	if err != nil {
		return s, err
	}
	fill := strings.NewReplacer("{address}", first).Replace
	var files []any
	for _, path := range slices.Sorted(maps.Keys(d.Files)) {
		files = append(files, map[string]any{"path": path, "content": fill(d.Files[path]), "permissions": "0644"})
	}
	if files != nil {
		user["write_files"] = files
	}
	var commands []any
	for _, c := range d.Commands {
		commands = append(commands, fill(c))
	}
	if commands != nil {
		user["runcmd"] = commands
	}
	if s.MetaData, err = encode(meta); err != nil {
		return s, err
	}
	if s.UserData, err = encode(user); err != nil {
		return s, err
	}
	s.UserData = "#cloud-config\n" + s.UserData
	if network != nil {
		s.NetworkConfig, err = encode(network)
	}
	return s, err
}

// network is the configuration of the NICs that something is said of (cloud-init's network configuration, version 2),
// nil for none, and the first fixed address among them.
func (d *Data) network(nics []machine.NIC, given map[string]netip.Prefix) (config map[string]any, first string,
	err error) {
	ethernets := map[string]any{}
	for n, nic := range nics {
		text := d.Addresses[nic.Name]
		if text == "" && (len(d.Addresses) > 0 || len(d.NameServers) == 0) {
			continue
		}
		if nic.MAC == "" {
			return nil, "", fmt.Errorf("%s has no MAC, by which the guest would know it", nic.Name)
		}
		e := map[string]any{"match": map[string]any{"macaddress": nic.MAC}}
		a := Address{Automatic: true}
		if text != "" {
			if a, err = ParseAddress(text); err != nil {
				return nil, "", err
			}
		}
		if a.Given {
			if a.Fixed = given[nic.Name]; !a.Fixed.IsValid() {
				return nil, "", fmt.Errorf("%s was given no address", nic.Name)
			}
		}
		if a.Automatic {
			e["dhcp4"] = true
		} else {
			e["addresses"] = []string{a.Fixed.String()}
			if first == "" {
				first = a.Fixed.Addr().String()
			}
		}
		if a.Via.IsValid() {
			to := "0.0.0.0/0"
			if a.Via.Is6() {
				to = "::/0"
			}
			e["routes"] = []any{map[string]any{"to": to, "via": a.Via.String()}}
		}
		if len(d.NameServers) > 0 {
			e["nameservers"] = map[string]any{"addresses": d.NameServers}
		}
		ethernets[fmt.Sprint("nic", n+1)] = e
	}
	if len(ethernets) == 0 {
		return nil, "", nil
	}
	return map[string]any{"version": 2, "ethernets": ethernets}, first, nil
}
