package ovf

import (
	"fmt"
	"maps"
	"slices"

	"github.com/beevik/etree"

	"unvora.example/unvora/core/machine"
)

// SetProduct tells of machine number n what product it is, and which licence is to be accepted (DSP0243 1.1, sections
// 9.4 and 9.5). What the descriptor says already stays where p says nothing else.
func (d *Descriptor) SetProduct(n int, p machine.Product) error {
	systems := d.doc.Root().FindElements(".//VirtualSystem")
	if n < 0 || n >= len(systems) {
		return fmt.Errorf("the descriptor has %d machines, not %d", len(systems), n+1)
	}
	s, pre := systems[n], d.prefix()
	if p.Name+p.Vendor+p.Version != "" || len(p.Properties) > 0 {
		e := child(s, "ProductSection")
		if e == nil {
			e = d.before(s, "ProductSection", "What is in the machine")
		}
		last := child(e, "Info")
		if last == nil { // the standard wants one
			last = d.element("Info")
			last.SetText("What is in the machine")
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
		there := map[string]*etree.Element{}
		for _, q := range children(e, "Property") {
			there[attr(q, "key")] = q
		}
		for _, key := range slices.Sorted(maps.Keys(p.Properties)) {
			q := there[key]
			if q == nil {
				q = d.element("Property")
				e.AddChild(q)
				setAttr(q, pre, "key", key)
				setAttr(q, pre, "type", "string")
			}
			setAttr(q, pre, "value", p.Properties[key])
		}
	}
	if p.Licence != "" {
		e := d.before(s, "EulaSection", "The licence that goes with the machine")
		l := d.element("License")
		l.SetText(p.Licence)
		e.AddChild(l)
	}
	return nil
}

// element is a new one, with the prefix that the envelope's elements bear.
func (d *Descriptor) element(tag string) *etree.Element {
	e := etree.NewElement(tag)
	e.Space = d.doc.Root().Space
	return e
}

// before makes a section of a machine, ahead of its hardware.
func (d *Descriptor) before(s *etree.Element, tag, about string) *etree.Element {
	e := d.element(tag)
	i := d.element("Info")
	i.SetText(about)
	e.AddChild(i)
	s.InsertChildAt(child(s, "VirtualHardwareSection").Index(), e)
	return e
}
