// Package firststart is what a machine is to learn of itself when it starts for the first time: its host name and
// addresses, a user, files and commands. It reaches the guest on a disc of the form that common initialisers of guests
// read (the data source NoCloud of cloud-init: a volume "cidata" with meta-data, user-data and network-config).
package firststart

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// MostBytes is how much first-start data may be, as it is written.
const MostBytes = 64 << 10

// What a NIC gets instead of a stated address.
const (
	Automatic = "automatic" // whatever its network gives it
	Give      = "give"      // one that its segment has to give out
)

// Data is what is asked for. Every text may hold {name}, {n} and {nn}: the machine's name, and its number among those
// that are made together. In files and commands {address} is its first fixed address.
type Data struct {
	HostName    string            `yaml:"host-name" json:"hostName,omitempty"`
	TimeZone    string            `yaml:"time-zone" json:"timeZone,omitempty"`
	NameServers []string          `yaml:"name-servers" json:"nameServers,omitempty"`
	Addresses   map[string]string `yaml:"addresses" json:"addresses,omitempty"` // NIC → as ParseAddress reads it
	User        *User             `yaml:"user" json:"user,omitempty"`
	Files       map[string]string `yaml:"files" json:"files,omitempty"` // path → text
	Commands    []string          `yaml:"commands" json:"commands,omitempty"`
}

// User is an account of the guest, which may do everything, and is signed in to with a key.
type User struct {
	Name string `yaml:"name" json:"name"`
	Key  string `yaml:"key" json:"key"` // a line as of authorized_keys (sshd(8))
}

// Example is first-start data with everything that can be said.
const Example = `# What a machine learns of itself when it starts for the first time. Everything may be left out.
# {name} is the machine's name, {n} and {nn} its number among those that are made together.
host-name: "{name}"
time-zone: Europe/Oslo
name-servers: [192.0.2.53]
addresses:            # by NIC: automatic, give (one that its segment has to give out), or ADDRESS/BITS via GATEWAY
  NIC 1: 192.0.2.1{nn}/24 via 192.0.2.1
user:                 # signed in to with a key, and allowed everything
  name: keeper
  key: ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIEhlcmUgZ29lcyB5b3VyIHB1YmxpYyBrZXkgaW5zdGVhZC4= keeper@skerrow
files:                # {address} is its first fixed address
  /etc/motd: |
    This is {name}, machine {n}, at {address}.
commands:
  - hostnamectl set-chassis vm
`

// Parse reads first-start data; its errors tell the line.
func Parse(text string) (*Data, error) {
	if len(text) > MostBytes {
		return nil, fmt.Errorf("it has %d bytes: at most %d are taken", len(text), MostBytes)
	}
	d := &Data{}
	in := yaml.NewDecoder(strings.NewReader(text))
	in.KnownFields(true)
	if err := in.Decode(d); err != nil && !errors.Is(err, io.EOF) {
		return nil, errors.New(plainly(err.Error()))
	}
	if err := in.Decode(&Data{}); !errors.Is(err, io.EOF) {
		return nil, errors.New("it holds more than one document")
	}
	return d, nil
}

// plainly is an error of the YAML reader without names of Go.
func plainly(text string) string {
	text = strings.Join(strings.Fields(strings.TrimPrefix(text, "yaml: ")), " ")
	text = strings.TrimPrefix(text, "unmarshal errors: ")
	text = regexp.MustCompile(`field (\S+) not found in type \S+`).ReplaceAllString(text,
		`there is no "$1" in first-start data`)
	return regexp.MustCompile(` into \S*(string|Data|User)\S*`).ReplaceAllString(text, " here")
}

// For is the data of one machine, checked.
func (d *Data) For(name string, n int) (*Data, error) {
	fill := strings.NewReplacer("{name}", name, "{nn}", fmt.Sprintf("%02d", n), "{n}", fmt.Sprint(n)).Replace
	all := func(list []string) (filled []string) {
		for _, s := range list {
			filled = append(filled, fill(s))
		}
		return filled
	}
	pairs := func(m map[string]string, key func(string) string) map[string]string {
		filled := map[string]string{}
		for k, v := range m {
			filled[key(k)] = fill(v)
		}
		return filled
	}
	f := &Data{HostName: fill(d.HostName), TimeZone: fill(d.TimeZone), NameServers: all(d.NameServers),
		Addresses: pairs(d.Addresses, strings.Clone), Files: pairs(d.Files, fill), Commands: all(d.Commands)}
	if d.User != nil {
		f.User = &User{fill(d.User.Name), fill(d.User.Key)}
	}
	return f, f.check()
}

const label = `[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?` // of a host name

var (
	hostName = regexp.MustCompile(`^` + label + `(\.` + label + `)*$`)
	timeZone = regexp.MustCompile(`^[A-Za-z0-9_+-]+(/[A-Za-z0-9_+-]+)*$`)
	userName = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}$`)
	userKey  = regexp.MustCompile(`^(ssh|ecdsa|sk)-[A-Za-z0-9@.-]+ [A-Za-z0-9+/=]+( [^\x00-\x1f]*)?$`)
)

// check tells what is not as it can be, after placeholders were filled in.
func (d *Data) check() error {
	if d.HostName != "" && (len(d.HostName) > 253 || !hostName.MatchString(d.HostName)) {
		return fmt.Errorf("host-name: %q is no host name (letters, digits, hyphens, dots)", d.HostName)
	}
	if d.TimeZone != "" && !timeZone.MatchString(d.TimeZone) {
		return fmt.Errorf("time-zone: %q is none, such as Europe/Oslo", d.TimeZone)
	}
	for _, s := range d.NameServers {
		if _, err := netip.ParseAddr(s); err != nil {
			return fmt.Errorf("name-servers: %q is no address", s)
		}
	}
	for _, nic := range slices.Sorted(maps.Keys(d.Addresses)) {
		if _, err := ParseAddress(d.Addresses[nic]); err != nil {
			return fmt.Errorf("addresses, %s: %w", nic, err)
		}
	}
	if u := d.User; u != nil && !userName.MatchString(u.Name) {
		return fmt.Errorf("user: %q is no name of an account (small letters, digits, hyphens)", u.Name)
	}
	if u := d.User; u != nil && !userKey.MatchString(strings.TrimSpace(u.Key)) {
		return errors.New("user: its key is no public key of one line, such as ssh-ed25519 AAAA…")
	}
	for _, p := range slices.Sorted(maps.Keys(d.Files)) {
		if !path.IsAbs(p) || path.Clean(p) != p || strings.ContainsFunc(p, func(r rune) bool { return r < ' ' }) {
			return fmt.Errorf("files: %q is no whole path, such as /etc/motd", p)
		}
	}
	for n, c := range d.Commands {
		if strings.TrimSpace(c) == "" || strings.ContainsRune(c, 0) {
			return fmt.Errorf("commands: number %d is empty", n+1)
		}
	}
	return nil
}

// Address is what a NIC is to get.
type Address struct {
	Automatic bool
	Given     bool         // one that its segment has to give out
	Fixed     netip.Prefix // else
	Via       netip.Addr   // gateway; zero for none
}

// ParseAddress reads automatic, give, give via GATEWAY, or ADDRESS/BITS via GATEWAY; the gateway may be left out.
func ParseAddress(text string) (a Address, err error) {
	what, via, routed := strings.Cut(strings.TrimSpace(text), " via ")
	if routed {
		if a.Via, err = netip.ParseAddr(strings.TrimSpace(via)); err != nil {
			return a, fmt.Errorf("%q is no address of a gateway", via)
		}
	}
	switch what = strings.TrimSpace(what); what {
	case Automatic:
		a.Automatic = true
		if routed {
			return a, errors.New("an automatic address comes with its gateway")
		}
	case Give:
		a.Given = true
	default:
		if a.Fixed, err = netip.ParsePrefix(what); err != nil {
			return a, fmt.Errorf("%q is neither “automatic” nor “give”, nor ADDRESS/BITS such as 192.0.2.20/24",
				what)
		}
		if routed && a.Via.Is4() != a.Fixed.Addr().Is4() {
			return a, fmt.Errorf("the gateway %s is of another kind than %s", a.Via, a.Fixed.Addr())
		}
	}
	return a, nil
}

// Wishes are the addresses that are asked of the segments: NIC → “give” or an address.
func (d *Data) Wishes() map[string]string {
	wishes := map[string]string{}
	for nic, text := range d.Addresses {
		switch a, err := ParseAddress(text); {
		case err != nil || a.Automatic:
		case a.Given:
			wishes[nic] = Give
		default:
			wishes[nic] = a.Fixed.Addr().String()
		}
	}
	return wishes
}

// ByHand lists what has to be done in a guest that reads none of it.
func (d *Data) ByHand() string {
	var list []string
	add := func(there bool, format string, args ...any) {
		if there {
			list = append(list, fmt.Sprintf(format, args...))
		}
	}
	add(d.HostName != "", "call it %s", d.HostName)
	for _, nic := range slices.Sorted(maps.Keys(d.Addresses)) {
		add(true, "set %s to %s", nic, d.Addresses[nic])
	}
	add(len(d.NameServers) > 0, "let it ask %s for names", strings.Join(d.NameServers, ", "))
	add(d.TimeZone != "", "set its time zone to %s", d.TimeZone)
	add(d.User != nil, "make the user and give it the key")
	add(len(d.Files) > 0, "write %s", strings.Join(slices.Sorted(maps.Keys(d.Files)), ", "))
	add(len(d.Commands) > 0, "run the commands")
	return strings.Join(list, "; ")
}

// encode is a value as YAML, in short lines.
func encode(v any) (string, error) {
	var b bytes.Buffer
	out := yaml.NewEncoder(&b)
	out.SetIndent(2)
	if err := out.Encode(v); err != nil {
		return "", err
	}
	return b.String(), out.Close()
}
