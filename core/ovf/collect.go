package ovf

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/beevik/etree"

	"unvora.example/unvora/core/machine"
)

// Collected is a machine that goes into a collection.
type Collected struct {
	*Descriptor                   // that holds it alone
	Disks       map[string]string // its own ids of disks → their ids in the collection, where those differ
	Order       int               // its turn when all are started; 0: it has none
	Pause       int               // seconds after it
}

// Collect makes one descriptor of several, with their machines in a collection of that name (DSP0243 1.1, sections 7.2
// and 9.7). It is of version 2 as soon as one of them is. What it is as a product, p says; nil for nothing. The
// descriptors that it is made of are of no use afterwards.
func Collect(name string, of []Collected, p *machine.Product) (*Descriptor, error) {
	if len(of) == 0 {
		return nil, errors.New("a collection has one machine at least")
	}
	version := "1"
	for _, c := range of {
		if c.Version == "2" {
			version = "2"
		}
	}
	for _, c := range of {
		if err := c.SetVersion(version); err != nil {
			return nil, err
		}
		if n := len(c.doc.Root().FindElements(".//VirtualSystem")); n != 1 {
			return nil, fmt.Errorf("a descriptor of a machine of the collection holds %d", n)
		}
		c.nameDisks(c.Disks)
	}
	d := of[0].Descriptor
	root := d.doc.Root()
	first := root.FindElement(".//VirtualSystem")
	first.Parent().RemoveChild(first)
	for _, c := range children(root, "VirtualSystemCollection") {
		root.RemoveChild(c)
	}
	all := d.section("VirtualSystemCollection", "Several machines that belong together")
	setAttr(all, d.prefix(), "id", name)
	called := d.element("Name")
	called.SetText(name)
	all.AddChild(called)
	root.AddChild(all)
	all.AddChild(first)
	for _, c := range of[1:] {
		if err := d.take(c.Descriptor, all); err != nil {
			return nil, err
		}
	}
	d.startup(all, of)
	if p != nil {
		d.product(all, *p)
	}
	d.Machines, d.Files, d.Options, d.Notes = nil, nil, nil, nil
	return d, d.read("descriptor")
}

// nameDisks gives disks other ids, wherever they are named.
func (d *Descriptor) nameDisks(ids map[string]string) {
	if len(ids) == 0 {
		return
	}
	root := d.doc.Root()
	renameDisks(root, ids)
	m := d.Machines[0].Clone()
	for i, disk := range m.Disks {
		if id := ids[disk.ID]; id != "" {
			m.Disks[i].ID = id
		}
	}
	for i, name := range m.Boot {
		if id := ids[name]; id != "" {
			m.Boot[i] = id
		}
	}
	d.setOwn(root.FindElement(".//VirtualSystem"), m)
}

// take puts the machine of another descriptor into a collection, and what the envelope says of its files, disks and
// networks.
func (d *Descriptor) take(other *Descriptor, all *etree.Element) error {
	root, from := d.doc.Root(), other.doc.Root()
	other.apart(d)
	d.shareNetworks(other)
	system := from.FindElement(".//VirtualSystem")
	for _, e := range from.ChildElements() {
		mine := child(root, e.Tag)
		switch e.Tag {
		case "VirtualSystem", "VirtualSystemCollection", "Info":
		case "References", "DiskSection", "NetworkSection":
			if mine == nil {
				return fmt.Errorf("a descriptor has no %s, and another has", e.Tag)
			}
			for _, c := range e.ChildElements() {
				if c.Tag == "Info" || c.Tag == "Network" && slices.ContainsFunc(children(mine, "Network"),
					func(n *etree.Element) bool { return attr(n, "name") == attr(c, "name") }) {
					continue
				}
				mine.AddChild(d.adopt(c, other))
			}
		default: // a section of the standard is there once
			if mine == nil || e.NamespaceURI() != other.ns {
				root.InsertChildAt(all.Index(), d.adopt(e, other))
			}
		}
	}
	all.AddChild(d.adopt(system, other))
	return nil
}

// apart gives files ids that those of another descriptor don't have.
func (d *Descriptor) apart(from *Descriptor) {
	taken, theirs, ids := map[string]bool{}, map[string]bool{}, map[string]string{}
	for _, f := range children(child(from.doc.Root(), "References"), "File") {
		taken[attr(f, "id")], theirs[attr(f, "id")] = true, true
	}
	own := children(child(d.doc.Root(), "References"), "File")
	for _, f := range own {
		taken[attr(f, "id")] = true
	}
	for _, f := range own {
		id := attr(f, "id")
		if !theirs[id] {
			continue
		}
		next := id
		for n := 2; taken[next]; n++ {
			next = fmt.Sprintf("%s-%d", id, n)
		}
		ids[id], taken[next] = next, true
		setAttr(f, d.prefix(), "id", next)
	}
	nameAnew(d.doc.Root(), ids, "/file/", "fileRef")
}

// shareNetworks gives networks of another descriptor other names that are called like one of d and are on another
// segment; those that are the same stay, and become one.
func (d *Descriptor) shareNetworks(other *Descriptor) {
	mine := map[string]*etree.Element{}
	for _, n := range children(child(d.doc.Root(), "NetworkSection"), "Network") {
		mine[attr(n, "name")] = n
	}
	taken := map[string]bool{}
	theirs := children(child(other.doc.Root(), "NetworkSection"), "Network")
	for _, n := range theirs {
		taken[attr(n, "name")] = true
	}
	for _, n := range theirs {
		name := attr(n, "name")
		fits := func(m *etree.Element) bool {
			return m == nil || attr(m, "segment") == attr(n, "segment") && attr(m, "vlan") == attr(n, "vlan")
		}
		next := name
		for k := 2; !fits(mine[next]) || next != name && taken[next]; k++ {
			next = fmt.Sprintf("%s %d", name, k)
		}
		if next == name {
			continue
		}
		taken[next] = true
		setAttr(n, other.prefix(), "name", next)
		walk(other.doc.Root(), func(e *etree.Element) {
			if e.Tag == "Connection" && strings.TrimSpace(e.Text()) == name {
				e.SetText(next)
			}
		})
	}
}

// adopt copies an element of another descriptor, with the prefixes that d has for its namespaces.
func (d *Descriptor) adopt(e *etree.Element, other *Descriptor) *etree.Element {
	ours := func(ns, prefix string) string {
		if ns == other.ns {
			ns = d.ns
		}
		return strings.TrimSuffix(d.prefixOf(ns, cmp.Or(prefix, "ns")), ":")
	}
	c := e.Copy()
	var fit func(c, was *etree.Element)
	fit = func(c, was *etree.Element) {
		switch ns := was.NamespaceURI(); {
		case ns == other.ns:
			c.Space = d.doc.Root().Space
		case ns != "":
			c.Space = ours(ns, was.Space)
		}
		attrs := []etree.Attr{}
		for i, a := range was.Attr {
			if a.Space == "xmlns" || a.Space == "" && a.Key == "xmlns" {
				continue
			}
			b := c.Attr[i]
			if ns := was.Attr[i].NamespaceURI(); a.Space != "" && a.Space != "xml" && ns != "" {
				b.Space = ours(ns, a.Space)
			}
			attrs = append(attrs, b)
		}
		c.Attr = nil
		for _, a := range attrs {
			c.CreateAttr(a.FullKey(), a.Value)
		}
		before := was.ChildElements()
		for i, k := range c.ChildElements() {
			fit(k, before[i])
		}
	}
	fit(c, e)
	return c
}

// startup says in which order the machines of a collection start, where that is known of any.
func (d *Descriptor) startup(all *etree.Element, of []Collected) {
	if !slices.ContainsFunc(of, func(c Collected) bool { return c.Order > 0 }) {
		return
	}
	s, pre := d.section("StartupSection", "The order in which the machines start"), d.prefix()
	for i, system := range children(all, "VirtualSystem") {
		if of[i].Order == 0 {
			continue
		}
		item := d.element("Item")
		for _, a := range [][2]string{{"id", attr(system, "id")}, {"order", strconv.Itoa(of[i].Order)},
			{"startDelay", strconv.Itoa(of[i].Pause)}, {"startAction", "powerOn"}, {"stopAction", "guestShutdown"}} {
			setAttr(item, pre, a[0], a[1])
		}
		s.AddChild(item)
	}
	all.InsertChildAt(child(all, "VirtualSystem").Index(), s)
}

// walk calls f for an element and all that it holds.
func walk(e *etree.Element, f func(e *etree.Element)) {
	f(e)
	for _, c := range e.ChildElements() {
		walk(c, f)
	}
}
