package service

import (
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/BurntSushi/toml"
)

// Setting of the service: its flag is Name, its variable UNVORA_NAME, its key in
// unvora.toml Name with underscores.
type Setting struct{ Name, Standard, About string }

// Settings are all settings.
var Settings = []Setting{
	{"listen", "127.0.0.1:7480", "address and port; loopback only unless told otherwise"},
	{"database", "postgres://localhost/unvora", "address of the PostgreSQL database"},
	{"key-file", "unvora.key", "file with the key that secrets in the database are sealed with; made at the first " +
		"start. Services on one database share it"},
	{"peers", "", "address and port where other Unvoras reach this one; none unless told"},
	{"metrics", "", "address and port where the service's figures are had by everybody who reaches it; else they " +
		"need a token (/metrics)"},
	{"mail-server", "", "server that mail about jobs is sent by: smtp://[USER:PASSWORD@]HOST[:PORT], or smtps://"},
	{"mail-from", "", "whom that mail comes from, such as unvora@skerrow.example"},
	{"address", "", "by which people reach the service, such as https://unvora.skerrow.example; it stands in mail"},
	{"tls-cert", "", "certificate file; with tls-key, HTTPS is spoken"},
	{"tls-key", "", "key file of the certificate"},
	{"first-user", "admin", "administrator made at the first start"},
	{"first-password", "", "password of the first user; a random one is printed unless said"},
	{"keep-jobs", "730", "days that a job is kept after its end, with its plan; at least 90, 0 for ever"},
	{"keep-history", "0", "days that an entry of history is kept; at least 90, 0 for ever"},
	{"log-level", "info", "debug, info, warn or error"},
}

// Values are what is in force, by the names of settings.
type Values map[string]string

// InForce finds each setting's value and where it comes from: flags, then variables, then the file, then what is
// standard. flag tells the value of a flag that was given. A file that is not there is an error only if needed.
func InForce(flag func(name string) (value string, given bool), file string, needed bool) (values, from Values,
	err error) {
	values, from = Values{}, Values{}
	var keys map[string]string
	if _, err := toml.DecodeFile(file, &keys); err != nil && (!errors.Is(err, fs.ErrNotExist) || needed) {
		return nil, nil, fmt.Errorf("configuration %s: %v", file, err)
	}
	known := map[string]bool{}
	for _, s := range Settings {
		key, variable := strings.ReplaceAll(s.Name, "-", "_"),
			"UNVORA_"+strings.ToUpper(strings.ReplaceAll(s.Name, "-", "_"))
		known[key] = true
		values[s.Name], from[s.Name] = s.Standard, "standard"
		if v, ok := keys[key]; ok {
			values[s.Name], from[s.Name] = v, file
		}
		if v, ok := os.LookupEnv(variable); ok {
			values[s.Name], from[s.Name] = v, variable
		}
		if v, given := flag(s.Name); given {
			values[s.Name], from[s.Name] = v, "--"+s.Name
		}
	}
	for k := range keys {
		if !known[k] {
			return nil, nil, fmt.Errorf("configuration %s: there is no setting %q", file, k)
		}
	}
	return values, from, nil
}

// leastDays is how short a term may be: what is younger is still worked with, such as what lies in a pool's trash.
const leastDays = 90

// term is the value of a setting in days; 0 for ever.
func (v Values) term(name string) (time.Duration, error) {
	days, err := strconv.Atoi(v[name])
	if err != nil || days < 0 || days > 0 && days < leastDays || days > 100*366 {
		return 0, fmt.Errorf("%s %q: days, at least %d, or 0 for ever", name, v[name], leastDays)
	}
	return time.Duration(days) * 24 * time.Hour, nil
}

// Harmless is a setting as it can be shown: without what opens something.
func Harmless(name, value string) string {
	switch {
	case value == "":
	case name == "first-password":
		return "(set)"
	case name == "mail-server":
		u, err := url.Parse(value)
		if err != nil {
			return "(set)"
		}
		return u.Redacted()
	case name == "database":
		u, err := url.Parse(value)
		if err != nil || u.Scheme == "" { // of the form "host=… password=…"
			return regexp.MustCompile(`(?i)(pass\w*\s*=\s*)('[^']*'|\S+)`).ReplaceAllString(value, "${1}(set)")
		}
		q := u.Query()
		for k := range q {
			if strings.Contains(strings.ToLower(k), "pass") {
				q.Set(k, "(set)")
			}
		}
		u.RawQuery = q.Encode()
		return u.Redacted()
	}
	return value
}
