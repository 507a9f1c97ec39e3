package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"unvora.example/unvora/core/lineage"

	"github.com/BurntSushi/toml"
	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/machine"
)

// profile is a client's configuration file.
type profile struct {
	Server string `toml:"server"`
	Token  string `toml:"token"`
}

const defaultServer = "http://127.0.0.1:7480"

// profilePath is where login keeps the profile, and demo its own beside it.
func profilePath(name string) string {
	dir, err := os.UserConfigDir()
	if err != nil {
		dir = "."
	}
	return filepath.Join(dir, "unvora", name)
}

// DemoProfile is the client's profile when there is no other.
func DemoProfile() string { return profilePath("demo.toml") }

func (a *app) profile() (profile, error) { return a.readProfile(true) }

// readProfile reads the profile that is named, or else the usual one. It must be there if it is named, unless it is
// about to be made.
func (a *app) readProfile(must bool) (profile, error) {
	p := profile{}
	files := []string{profilePath("client.toml"), DemoProfile()}
	named := firstOf(a.config, os.Getenv("UNVORA_CONFIG"))
	if named != "" {
		files = []string{named}
	}
	for _, file := range files {
		_, err := toml.DecodeFile(file, &p)
		if err == nil {
			break
		}
		if named != "" && must || !errors.Is(err, fs.ErrNotExist) {
			if errors.Is(err, fs.ErrNotExist) {
				return p, usage("there is no client profile %s: unvora login makes it", file)
			}
			return p, usage("client profile %s: %v", file, err)
		}
	}
	p.Server = firstOf(a.server, os.Getenv("UNVORA_SERVER"), p.Server, defaultServer)
	p.Token = firstOf(a.token, os.Getenv("UNVORA_TOKEN"), p.Token)
	if !strings.Contains(p.Server, "://") {
		p.Server = "http://" + p.Server
	}
	return p, nil
}

func firstOf(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

// caller calls one service.
type caller struct {
	*openapi.Client
	server string
	shown  bool // answers are shown to a person
}

func (a *app) client() (*caller, error) {
	p, err := a.profile()
	if err != nil {
		return nil, err
	}
	u, err := url.Parse(p.Server)
	if err != nil || u.Host == "" {
		return nil, usage("--server %q is not an address such as %s", p.Server, defaultServer)
	}
	c, err := openapi.NewClient(strings.TrimSuffix(p.Server, "/")+"/api/v1",
		openapi.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			if p.Token != "" {
				r.Header.Set("Authorization", "Bearer "+p.Token)
			}
			return nil
		}))
	return &caller{c, p.Server, a.output == "table"}, err
}

// problem is an error that the service has told.
type problem struct{ openapi.Problem }

func (p *problem) Error() string {
	s := p.Detail
	if p.Next != nil && *p.Next != "" {
		s += "\n" + *p.Next
	}
	return s
}

var statusOfCode = map[string]int{
	"wrong": statusUsage, "plan.open": statusOpen, "plan.blocked": statusBlocked, "busy": statusBlocked,
	"past-return": statusBlocked, "taken": statusBlocked,
	"permission.denied": statusNotAllowed, "signed-out": statusNotAllowed, "host.unreachable": statusUnreachable,
}

// unreachable is the error of a service that does not answer.
type unreachable struct{ err error }

func (u *unreachable) Error() string { return u.err.Error() }

// check turns whatever went wrong with a call into an error with a status.
func (c *caller) check(res *http.Response, err error) (*http.Response, error) {
	if err != nil {
		if errors.Is(err, context.Canceled) {
			return nil, &exit{statusCancelled, errors.New("cancelled")}
		}
		return nil, &exit{statusUnreachable, &unreachable{fmt.Errorf("the service at %s does not answer: %s\nIs it "+
			"running (unvora serve, make demo), and is the address right (--server)?", c.server, plainly(err))}}
	}
	if res.StatusCode < 400 {
		return res, nil
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 32<<20))
	p := &problem{}
	if json.Unmarshal(visible(raw), &p.Problem) != nil || p.Detail == "" {
		return nil, &exit{statusFailed, fmt.Errorf("%s answers %s: is that an Unvora service?", c.server, res.Status)}
	}
	if res.StatusCode == http.StatusServiceUnavailable {
		return nil, &exit{statusUnreachable, &unreachable{p}}
	}
	status := statusOfCode[p.Code]
	if status == 0 {
		status = statusFailed
	}
	return nil, &exit{status, p}
}

// plainly says in our words why a service can't be reached, where that is known.
func plainly(err error) string {
	var name *net.DNSError
	var u *url.Error
	switch {
	case errors.As(err, &name):
		return "there is no computer named " + name.Name
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing listens there"
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded):
		return "it took too long"
	case errors.As(err, &u): // without the method and address that net/http puts before it
		return u.Err.Error()
	}
	return err.Error()
}

// call decodes the answer of a call.
func call[T any](c *caller, res *http.Response, err error) (T, error) {
	var t T
	res, err = c.check(res, err)
	if err != nil {
		return t, err
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusNoContent {
		return t, nil
	}
	raw, err := io.ReadAll(io.LimitReader(res.Body, mostAnswer))
	if err == nil {
		err = json.Unmarshal(c.seen(raw), &t)
	}
	if err != nil {
		return t, &exit{statusFailed, fmt.Errorf("the answer of %s can't be read: %w", c.server, err)}
	}
	return t, nil
}

// mostAnswer is more than a page of any list has, in bytes.
const mostAnswer = 256 << 20

// seen makes an answer's texts such that all of them can be seen: names come from
// outside, and a terminal obeys what it is sent. JSON is left to its reader.
func (c *caller) seen(raw []byte) []byte {
	if !c.shown {
		return raw
	}
	return visible(raw)
}

var unseenEscape = regexp.MustCompile(
	`(\\+)u(00[01][0-9a-fA-F]|007f|00[89][0-9a-fA-F]|061c|200[ef]|202[89a-e]|206[6-9])`)

// visible writes controls and marks of direction in JSON texts as what they are
// called. Line ends and tabs in texts stay.
func visible(raw []byte) []byte {
	raw = unseenEscape.ReplaceAllFunc(raw, func(m []byte) []byte {
		slashes := bytes.IndexByte(m, 'u')
		if slashes%2 == 0 { // the backslash is one itself
			return m
		}
		return append([]byte{'\\'}, m...)
	})
	if !bytes.ContainsFunc(raw, func(r rune) bool { return machine.Unseen(r) && r != '\n' && r != '\t' && r != '\r' }) {
		return raw
	}
	var out bytes.Buffer
	for _, r := range string(raw) {
		if machine.Unseen(r) && r != '\n' && r != '\t' && r != '\r' {
			fmt.Fprintf(&out, `\\u%04x`, r)
			continue
		}
		out.WriteRune(r)
	}
	return out.Bytes()
}

func ptr[T any](v T) *T { return &v }

// completeCopies knows the names of copies, for shell completion.
func (a *app) completeCopies(forms ...string) cobra.CompletionFunc {
	return a.complete(func(ctx context.Context, c *caller, prefix string) ([]string, error) {
		res, err := c.ListCopies(ctx, &openapi.ListCopiesParams{Limit: ptr(200),
			Filter: filterPrefix(lastPart(prefix))})
		page, err := call[openapi.CopyPage](c, res, err)
		var names []string
		for _, i := range page.Items {
			if len(forms) == 0 || string(i.Form) == forms[0] {
				names = append(names, i.Name, i.Host+"/"+i.Name)
			}
		}
		return names, err
	})
}

func (a *app) completeHosts() cobra.CompletionFunc {
	return a.complete(func(ctx context.Context, c *caller, prefix string) ([]string, error) {
		res, err := c.ListHosts(ctx, &openapi.ListHostsParams{Limit: ptr(200), Filter: filterPrefix(prefix)})
		page, err := call[openapi.HostPage](c, res, err)
		var names []string
		for _, i := range page.Items {
			names = append(names, i.Name)
		}
		return names, err
	})
}

// completePools knows the names of pools, and their labels.
func (a *app) completePools() cobra.CompletionFunc {
	return a.complete(func(ctx context.Context, c *caller, _ string) ([]string, error) {
		res, err := c.ListPools(ctx, &openapi.ListPoolsParams{Limit: ptr(200)})
		page, err := call[openapi.PoolPage](c, res, err)
		var names []string
		for _, p := range page.Items {
			names = append(names, p.Name, p.Host+"/"+p.Name)
			names = append(names, p.Labels...)
		}
		return names, err
	})
}

// completeItems knows the items of attention: their numbers, causes and subjects.
func (a *app) completeItems() cobra.CompletionFunc {
	return a.complete(func(ctx context.Context, c *caller, _ string) ([]string, error) {
		res, err := c.ListAttention(ctx, &openapi.ListAttentionParams{})
		items, err := call[[]openapi.AttentionItem](c, res, err)
		var names []string
		numbers := a.numbers(items)
		for _, i := range items {
			names = append(names, strconv.Itoa(numbers[i.Id])+"\t"+i.Subject, i.Cause)
		}
		return names, err
	})
}

// filterValues are what copies can be filtered by; for some the values that there are.
var filterValues = map[string][]string{"name": nil, "host": nil, "pool": nil, "owner": nil, "manager": nil, "mac": nil,
	"address": nil, "uuid": nil, "tracked": {"yes", "no"}, "form": joinedWords(lineage.Forms),
	"state": joinedWords(machine.States)}

func joinedWords[T ~string](list []T) (words []string) {
	for _, w := range list {
		words = append(words, string(w))
	}
	return words
}

// completeWhere knows what can follow in a filter of copies: a field, or a value of the one that was begun.
func (a *app) completeWhere() cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, prefix string) ([]cobra.Completion, cobra.ShellCompDirective) {
		at := strings.LastIndexByte(prefix, ' ') + 1
		before, term := prefix[:at], prefix[at:]
		field, begun, valued := strings.Cut(term, "=")
		var list []cobra.Completion
		if !valued {
			for f := range filterValues {
				if strings.HasPrefix(f, term) {
					list = append(list, before+f+"=")
				}
			}
			slices.Sort(list)
			return list, cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
		}
		values := filterValues[field]
		switch field {
		case "host":
			values, _ = a.completeHosts()(cmd, args, begun)
		case "pool":
			values, _ = a.completePools()(cmd, args, begun)
		}
		for _, v := range values {
			if strings.HasPrefix(v, begun) {
				list = append(list, before+field+"="+v)
			}
		}
		return list, cobra.ShellCompDirectiveNoFileComp
	}
}

func lastPart(s string) string { return s[strings.LastIndexByte(s, '/')+1:] }

func filterPrefix(prefix string) *string {
	if prefix == "" {
		return nil
	}
	return ptr("name~" + prefix + "*")
}

func (a *app) complete(names func(context.Context, *caller, string) ([]string, error)) cobra.CompletionFunc {
	return func(cmd *cobra.Command, _ []string, prefix string) ([]cobra.Completion, cobra.ShellCompDirective) {
		c, err := a.client()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		all, err := names(cmd.Context(), c, prefix)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var fit []cobra.Completion
		for _, n := range all {
			if strings.HasPrefix(n, prefix) {
				fit = append(fit, n)
			}
		}
		return fit, cobra.ShellCompDirectiveDefault
	}
}
