// Package ovftest holds packages against the rules of the Open Virtualization Format, DSP0243 1.1.0 and 2.1.1, and the
// schemas that belong to it. It is written from the standard: it uses nothing of what writes or reads packages here.
package ovftest

import (
	"encoding/xml"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

const (
	envelope1 = "http://schemas.dmtf.org/ovf/envelope/1"
	envelope2 = "http://schemas.dmtf.org/ovf/envelope/2"
	cim       = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_"
)

// node is an element.
type node struct {
	space, tag, text string
	attrs            map[string]string // those of the envelope's namespace and those without, by their local names
	nodes            []*node
}

func (n *node) all(tag string) (list []*node) {
	for _, c := range n.nodes {
		if c.tag == tag {
			list = append(list, c)
		}
	}
	return list
}

func (n *node) one(tag string) *node {
	if list := n.all(tag); len(list) > 0 {
		return list[0]
	}
	return nil
}

func (n *node) says(tag string) string {
	if c := n.one(tag); c != nil {
		return c.text
	}
	return ""
}

// parse reads the document as a tree.
func parse(raw []byte) (*node, error) {
	dec := xml.NewDecoder(strings.NewReader(string(raw)))
	top := &node{}
	open := []*node{top}
	for {
		t, err := dec.Token()
		if err == io.EOF {
			if len(top.nodes) != 1 {
				return nil, fmt.Errorf("there is no one root")
			}
			return top.nodes[0], nil
		}
		if err != nil {
			return nil, err
		}
		switch t := t.(type) {
		case xml.StartElement:
			n := &node{space: t.Name.Space, tag: t.Name.Local, attrs: map[string]string{}}
			for _, a := range t.Attr {
				if a.Name.Space == "" || a.Name.Space == envelope1 || a.Name.Space == envelope2 {
					n.attrs[a.Name.Local] = a.Value
				}
			}
			last := open[len(open)-1]
			last.nodes = append(last.nodes, n)
			open = append(open, n)
		case xml.EndElement:
			open = open[:len(open)-1]
		case xml.CharData:
			open[len(open)-1].text += strings.TrimSpace(string(t))
		}
	}
}

// checker collects breaches.
type checker struct {
	ns       string
	breaches []string
	files    map[string]bool // ids
	disks    map[string]bool
	networks map[string]bool
	options  map[string]bool
	systems  map[string]bool
}

func (c *checker) breach(rule, format string, args ...any) {
	c.breaches = append(c.breaches, rule+": "+fmt.Sprintf(format, args...))
}

// Breaches lists what in a descriptor is against the standard, each with the rule that it breaks.
func Breaches(raw []byte) []string {
	root, err := parse(raw)
	if err != nil {
		return []string{"XML: " + err.Error()}
	}
	c := &checker{ns: root.space, files: map[string]bool{}, disks: map[string]bool{}, networks: map[string]bool{},
		options: map[string]bool{}, systems: map[string]bool{}}
	if root.tag != "Envelope" || c.ns != envelope1 && c.ns != envelope2 {
		c.breach("7", "the root is %s of %q", root.tag, root.space)
		return c.breaches
	}
	c.envelope(root)
	return c.breaches
}

// sequence holds the order of an element's children of the envelope's namespace, as the schema has it, and how often
// each may be there. "*" stands for sections of any kind. What is of another namespace may stand anywhere.
func (c *checker) sequence(n *node, where string, order ...string) {
	at := 0
	count := map[string]int{}
	for _, k := range n.nodes {
		if k.space != c.ns {
			continue
		}
		slot := -1
		for i, o := range order {
			names, _, _ := strings.Cut(o, ":")
			section := names == "*" && strings.HasSuffix(k.tag, "Section")
			if section || slices.Contains(strings.Split(names, "|"), k.tag) {
				slot = i
				break
			}
		}
		if slot < 0 {
			c.breach("schema", "%s may not hold %s", where, k.tag)
			continue
		}
		if slot < at {
			c.breach("schema", "%s stands behind what has to come after it in %s", k.tag, where)
		}
		at = max(at, slot)
		count[order[slot]]++
	}
	for _, o := range order {
		switch name, how, _ := strings.Cut(o, ":"); {
		case how == "1" && count[o] != 1:
			c.breach("schema", "%s holds %s %d times, not once", where, name, count[o])
		case how == "?" && count[o] > 1:
			c.breach("schema", "%s holds %s %d times, and once is the most", where, name, count[o])
		case how == "+" && count[o] == 0:
			c.breach("schema", "%s holds no %s", where, name)
		}
	}
}

// needs says that attributes are missing.
func (c *checker) needs(n *node, where string, attrs ...string) {
	for _, a := range attrs {
		if n.attrs[a] == "" {
			c.breach("schema", "%s has no %s", where, a)
		}
	}
}

// number says that an attribute is none.
func (c *checker) number(n *node, where, attr string) {
	if v, ok := n.attrs[attr]; ok {
		if _, err := strconv.ParseUint(v, 10, 64); err != nil {
			c.breach("schema", "%s: %s is %q", where, attr, v)
		}
	}
}

// unique notes an id, and says that it is there twice.
func (c *checker) unique(set map[string]bool, id, where string) {
	if set[id] {
		c.breach("7.1", "%s: %q is there twice", where, id)
	}
	set[id] = true
}

func (c *checker) envelope(root *node) {
	c.sequence(root, "Envelope", "References:1", "*", "VirtualSystem|VirtualSystemCollection:1", "Strings")
	if refs := root.one("References"); refs != nil {
		for _, f := range refs.nodes {
			c.file(f)
		}
	}
	seen := map[string]bool{}
	for _, s := range root.nodes {
		if s.space == c.ns && strings.HasSuffix(s.tag, "Section") {
			c.unique(seen, s.tag, "sections of the envelope")
		}
	}
	if s := root.one("DeploymentOptionSection"); s != nil { // configurations are named further up
		c.deploymentOptions(s)
	}
	if s := root.one("DiskSection"); s != nil {
		c.diskSection(s)
	}
	if s := root.one("NetworkSection"); s != nil {
		c.sequence(s, s.tag, "Info:1", "Network")
		for _, n := range s.all("Network") {
			c.needs(n, "Network", "name")
			c.unique(c.networks, n.attrs["name"], "networks")
		}
	}
	for _, k := range root.nodes {
		switch {
		case k.tag == "VirtualSystem" || k.tag == "VirtualSystemCollection":
			c.content(k)
		case k.space != c.ns:
			c.foreign(k)
		}
	}
}

// file is section 7.1: References.
func (c *checker) file(f *node) {
	where := fmt.Sprintf("File %q", f.attrs["id"])
	c.needs(f, where, "id", "href")
	c.unique(c.files, f.attrs["id"], "ids of files")
	c.number(f, where, "size")
	c.number(f, where, "chunkSize")
	if href := f.attrs["href"]; strings.HasPrefix(href, "/") || slices.Contains(strings.Split(href, "/"), "..") {
		c.breach("7.1", "%s: %q leads out of the package", where, href)
	}
	if k, ok := f.attrs["compression"]; ok && k != "gzip" && k != "identity" {
		c.breach("7.1", "%s: compression is %q", where, k)
	}
}

// uri is a URI (RFC 3986, section 3) of any scheme.
var uri = regexp.MustCompile(`^[a-z][a-z0-9+.-]*:[^ ]+$`)

// diskSection is section 9.1.
func (c *checker) diskSection(s *node) {
	c.sequence(s, s.tag, "Info:1", "Disk")
	for _, d := range s.all("Disk") {
		where := fmt.Sprintf("Disk %q", d.attrs["diskId"])
		c.needs(d, where, "diskId", "capacity")
		c.unique(c.disks, d.attrs["diskId"], "ids of disks")
		if cap := d.attrs["capacity"]; !strings.HasPrefix(cap, "${") {
			c.number(d, where, "capacity")
		}
		if u, ok := d.attrs["capacityAllocationUnits"]; ok {
			c.unit(u, where)
		}
		if ref := d.attrs["fileRef"]; ref != "" {
			if !c.files[ref] {
				c.breach("9.1", "%s: there is no file %q", where, ref)
			}
			if !uri.MatchString(d.attrs["format"]) {
				c.breach("9.1", "%s: its format %q is no URI", where, d.attrs["format"])
			}
		}
		c.number(d, where, "populatedSize")
	}
	for _, d := range s.all("Disk") {
		if ref := d.attrs["parentRef"]; ref != "" && !c.disks[ref] {
			c.breach("9.1", "Disk %q: there is no disk %q", d.attrs["diskId"], ref)
		}
	}
}

// programmatic is a unit as DSP0004, annex C, has it, as far as capacities and frequencies use it.
var programmatic = regexp.MustCompile(`^(byte|bit|hertz|percent|count)( ?\* ?(\d+(\^[+-]?\d+)?|byte|bit|hertz))*$`)

func (c *checker) unit(u, where string) {
	if !programmatic.MatchString(u) {
		c.breach("DSP0004 annex C", "%s: %q is no programmatic unit", where, u)
	}
}

func (c *checker) deploymentOptions(s *node) {
	c.sequence(s, s.tag, "Info:1", "Configuration:+")
	defaults := 0
	for _, o := range s.all("Configuration") {
		c.needs(o, "Configuration", "id")
		c.unique(c.options, o.attrs["id"], "configurations")
		c.sequence(o, "Configuration "+o.attrs["id"], "Label:1", "Description:1")
		if o.attrs["default"] == "true" {
			defaults++
		}
	}
	if defaults > 1 {
		c.breach("9.8", "%d configurations are the default", defaults)
	}
}

// foreign is section 7.3: what other namespaces bring says whether it has to be understood, in one way of three.
func (c *checker) foreign(n *node) {
	if v, ok := n.attrs["required"]; ok && v != "true" && v != "false" {
		c.breach("7.3", "%s: required is %q", n.tag, v)
	}
	if strings.HasSuffix(n.tag, "Section") && (len(n.nodes) == 0 || n.nodes[0].tag != "Info" ||
		n.nodes[0].space != c.ns) {
		c.breach("7.2", "%s does not begin with Info", n.tag)
	}
}

// content is section 7.2.
func (c *checker) content(n *node) {
	where := fmt.Sprintf("%s %q", n.tag, n.attrs["id"])
	c.needs(n, where, "id")
	c.unique(c.systems, n.attrs["id"], "ids of systems")
	order := []string{"Info:1", "Name:?", "*"}
	if n.tag == "VirtualSystemCollection" {
		order = append(order, "VirtualSystem|VirtualSystemCollection:+")
	}
	c.sequence(n, where, order...)
	classes, once := map[string]bool{}, map[string]bool{}
	for _, s := range n.nodes {
		if s.space != c.ns {
			c.foreign(s)
			continue
		}
		switch s.tag {
		case "VirtualSystem", "VirtualSystemCollection":
			c.content(s)
		case "OperatingSystemSection":
			c.unique(once, s.tag, where)
			c.sequence(s, s.tag, "Info:1", "Description:?")
			c.needs(s, s.tag, "id")
			if v, err := strconv.Atoi(s.attrs["id"]); err != nil || v < 0 || v > 65535 {
				c.breach("schema", "%s: id is %q", s.tag, s.attrs["id"])
			}
		case "VirtualHardwareSection":
			c.hardware(s)
		case "ProductSection":
			c.unique(classes, s.attrs["class"]+"."+s.attrs["instance"], "product sections of "+where)
			c.product(s)
		case "EulaSection":
			c.sequence(s, s.tag, "Info:1", "License:1")
		case "AnnotationSection":
			c.sequence(s, s.tag, "Info:1", "Annotation:1")
		case "StartupSection":
			if n.tag != "VirtualSystemCollection" {
				c.breach("9.7", "a StartupSection belongs into a collection")
			}
			c.startup(s, n)
		}
	}
}

// startup is section 9.7.
func (c *checker) startup(s, of *node) {
	c.sequence(s, s.tag, "Info:1", "Item")
	ids := []string{}
	for _, k := range of.nodes {
		ids = append(ids, k.attrs["id"])
	}
	for _, it := range s.all("Item") {
		c.needs(it, "Item of a StartupSection", "id", "order")
		if !slices.Contains(ids, it.attrs["id"]) {
			c.breach("9.7", "there is no system %q in the collection", it.attrs["id"])
		}
		for _, a := range []string{"order", "startDelay", "stopDelay"} {
			c.number(it, "Item of a StartupSection", a)
		}
	}
}

// Types of properties, section 9.5.
var propertyTypes = []string{"uint8", "sint8", "uint16", "sint16", "uint32", "sint32", "uint64", "sint64", "string",
	"boolean", "real32", "real64", "int", "size", "password"}

// product is section 9.5.
func (c *checker) product(s *node) {
	c.sequence(s, s.tag, "Info:1", "Product:?", "Vendor:?", "Version:?", "FullVersion:?", "ProductUrl:?", "VendorUrl:?",
		"AppUrl:?", "Icon", "Category|Property")
	keys := map[string]bool{}
	for _, p := range s.all("Property") {
		where := fmt.Sprintf("Property %q", p.attrs["key"])
		c.needs(p, where, "key", "type")
		c.unique(keys, p.attrs["key"], "keys")
		if strings.ContainsAny(p.attrs["key"], ".:") {
			c.breach("9.5", "%s: a key has neither . nor :", where)
		}
		if t := p.attrs["type"]; t != "" && !slices.Contains(propertyTypes[:12], t) {
			c.breach("9.5", "%s: there is no type %q", where, t)
		}
		c.sequence(p, where, "Label:?", "Description:?", "Value")
		for _, v := range p.all("Value") {
			if o := v.attrs["configuration"]; o != "" && !c.options[o] {
				c.breach("9.5", "%s: there is no configuration %q", where, o)
			}
		}
	}
	for _, i := range s.all("Icon") {
		if !c.files[i.attrs["fileRef"]] {
			c.breach("9.5", "Icon: there is no file %q", i.attrs["fileRef"])
		}
	}
}
