package ovf

import (
	"maps"
	"slices"
	"strings"

	"github.com/beevik/etree"

	"unvora.example/unvora/core/machine"
)

// SetProduct tells of machine number n what product it is, and which licence is to be accepted (DSP0243 1.1, sections
// 9.4 and 9.5). What the descriptor says already stays where p says nothing else.
func (d *Descriptor) SetProduct(n int, p machine.Product) error {
	s, err := d.system(n)
	if err != nil {
		return err
	}
	d.product(s, p)
	return nil
}

// product tells the same of a machine, or of a collection.
func (d *Descriptor) product(s *etree.Element, p machine.Product) {
	if p.Name+p.Vendor+p.Version != "" {
		e := child(s, "ProductSection")
		if e == nil {
			e = d.before(s, "ProductSection", productInfo)
		}
		last := child(e, "Info")
		if last == nil { // the standard wants one
			last = d.element("Info")
			last.SetText(productInfo)
			e.InsertChildAt(0, last)
		}
		for _, f := range [][2]string{{"Product", p.Name}, {"Vendor", p.Vendor}, {"Version", p.Version}} {
			c := child(e, f[0])
			if c == nil && f[1] != "" {
				c = d.element(f[0])
				e.InsertChildAt(last.Index()+1, c)
			}
			if f[1] != "" {
				c.SetText(f[1])
			}
			if c != nil {
				last = c
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(p.Properties)) {
		setAttr(d.property(s, key), d.prefix(), "value", p.Properties[key])
	}
	if p.Licence != "" {
		e := d.before(s, "EulaSection", "The licence that goes with the machine")
		l := d.element("License")
		l.SetText(p.Licence)
		e.AddChild(l)
	}
}

const productInfo = "What is in the machine"

// property finds the one of that name in the product sections of a machine, or makes it. A name is CLASS.KEY: a section
// has a class, and a key has no dot in it (DSP0243 1.1, section 9.5).
func (d *Descriptor) property(s *etree.Element, name string) *etree.Element {
	class, key := "", name
	if at := strings.LastIndexByte(name, '.'); at >= 0 {
		class, key = name[:at], name[at+1:]
	}
	var of *etree.Element
	for _, e := range children(s, "ProductSection") {
		for _, q := range children(e, "Property") {
			if propertyName(e, q) == name {
				return q
			}
		}
		if of == nil && attr(e, "class") == class && attr(e, "instance") == "" {
			of = e
		}
	}
	pre := d.prefix()
	if of == nil {
		if of = d.before(s, "ProductSection", productInfo); class != "" {
			setAttr(of, pre, "class", class)
		}
	}
	q := d.element("Property")
	of.AddChild(q)
	setAttr(q, pre, "key", key)
	setAttr(q, pre, "type", "string")
	return q
}

// propertyName is what a property of a product section is called outside.
func propertyName(section, property *etree.Element) string {
	name := attr(property, "key")
	if class := attr(section, "class"); class != "" {
		name = class + "." + name
	}
	if instance := attr(section, "instance"); instance != "" {
		name += "." + instance
	}
	return name
}

// before makes a section of a machine, ahead of its hardware; of a collection, ahead of its machines.
func (d *Descriptor) before(s *etree.Element, tag, about string) *etree.Element {
	e := d.section(tag, about)
	s.InsertChildAt(children(s, "VirtualHardwareSection", "VirtualSystem")[0].Index(), e)
	return e
}
