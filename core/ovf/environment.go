package ovf

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/beevik/etree"
)

const (
	nsEnvironment = "http://schemas.dmtf.org/ovf/environment/1"
	transportDisc = "iso"
)

// Property is a value that a package wants its guest to be told (DSP0243 1.1, section 9.5.1).
type Property struct {
	Name       string // CLASS.KEY.INSTANCE, as far as it has them
	Label      string // for people; "" for none
	Type       string // of CIM, such as uint16; "" for string
	Qualifiers string // that narrow it, such as MaxLen(64)
	Value      string
	Settable   bool // whoever brings the package in may say another
	Secret     bool // a password
}

// Environment is what a machine of a package is told by whoever starts it (DSP0243 1.1, section 11).
type Environment struct {
	System     string // id of the virtual system
	Disc       bool   // its hardware wants the document on a disc (section 11.2)
	Properties []Property
}

// Environment is that of machine number n: with the properties of the collections that it is in, and with values as
// the chosen deployment option has them.
func (d *Descriptor) Environment(n int) (*Environment, error) {
	s, err := d.system(n)
	if err != nil {
		return nil, err
	}
	e := &Environment{System: attr(s, "id")}
	for _, h := range children(s, "VirtualHardwareSection") {
		e.Disc = e.Disc || slices.Contains(strings.Fields(attr(h, "transport")), transportDisc)
	}
	for of := s; of != nil && (of == s || of.Tag == "VirtualSystemCollection"); of = of.Parent() {
		for _, section := range children(of, "ProductSection") {
			for _, q := range children(section, "Property") {
				p := Property{Name: propertyName(section, q), Label: text(q, "Label"), Type: attr(q, "type"),
					Qualifiers: attr(q, "qualifiers"), Value: d.valueOf(q),
					Settable: attr(q, "userConfigurable") == "true", Secret: attr(q, "password") == "true"}
				if e.find(p.Name) == nil { // what is nearer to the machine counts
					e.Properties = append(e.Properties, p)
				}
			}
		}
	}
	return e, nil
}

// valueOf is the value of a property as the chosen deployment option has it; "" for none.
func (d *Descriptor) valueOf(property *etree.Element) string {
	value := attr(property, "value")
	for _, v := range children(property, "Value") {
		if c := attr(v, "configuration"); c == "" || c == d.option {
			value = attr(v, "value")
		}
	}
	return value
}

func (e *Environment) find(name string) *Property {
	at := slices.IndexFunc(e.Properties, func(p Property) bool { return p.Name == name })
	if at < 0 {
		return nil
	}
	return &e.Properties[at]
}

// Set gives a property a value. It returns false where there is none of that name; its error is that the value is none
// of the property's type, or that nobody is asked for it.
func (e *Environment) Set(name, value string) (bool, error) {
	p := e.find(name)
	switch {
	case p == nil:
		return false, nil
	case !p.Settable:
		return true, fmt.Errorf("the package gives %s its value, and nobody else does", name)
	}
	if err := p.check(value); err != nil {
		shown := strconv.Quote(value)
		if p.Secret {
			shown = "what was given"
		}
		return true, fmt.Errorf("%s: %s %w", name, shown, err)
	}
	p.Value = value
	return true, nil
}

var (
	numberType = regexp.MustCompile(`^([us])int(8|16|32|64)$`)
	lengthRule = regexp.MustCompile(`\b(Min|Max)Len\s*\(\s*(\d+)\s*\)`)
	valueRule  = regexp.MustCompile(`\bValueMap\s*\{([^}]*)\}`)
	quoted     = regexp.MustCompile(`"([^"]*)"`)
)

// check tells why a value can't be the property's (DSP0243 1.1, section 9.5.1, tables 6 and 7).
func (p *Property) check(value string) error {
	if strings.IndexFunc(value, func(r rune) bool { return unicode.IsControl(r) && r != '\t' && r != '\n' }) >= 0 {
		return fmt.Errorf("has a control character")
	}
	var err error
	switch n := numberType.FindStringSubmatch(p.Type); {
	case n != nil:
		bits, _ := strconv.Atoi(n[2])
		if n[1] == "u" {
			_, err = strconv.ParseUint(value, 10, bits)
		} else {
			_, err = strconv.ParseInt(value, 10, bits)
		}
	case p.Type == "real32" || p.Type == "real64":
		_, err = strconv.ParseFloat(value, 64)
	case p.Type == "boolean" && !slices.Contains([]string{"true", "false"}, strings.ToLower(value)):
		return fmt.Errorf("is not true or false")
	}
	if err != nil {
		return fmt.Errorf("is no %s", p.Type)
	}
	if p.Type == "" || p.Type == "string" {
		long := len([]rune(value))
		for _, rule := range lengthRule.FindAllStringSubmatch(p.Qualifiers, -1) {
			most, err := strconv.Atoi(rule[2])
			if err == nil && (rule[1] == "Max" && long > most || rule[1] == "Min" && long < most) {
				return fmt.Errorf("has %d characters, and %s is asked for", long, rule[0])
			}
		}
	}
	if rule := valueRule.FindStringSubmatch(p.Qualifiers); rule != nil {
		var of []string
		for _, one := range quoted.FindAllStringSubmatch(rule[1], -1) {
			of = append(of, one[1])
		}
		if len(of) > 0 && !slices.Contains(of, value) {
			return fmt.Errorf("is none of %s", strings.Join(of, ", "))
		}
	}
	return nil
}

// Document is the environment as its guest reads it (DSP0243 1.1, section 11.1).
func (e *Environment) Document() (string, error) {
	doc := etree.NewDocument()
	doc.CreateProcInst("xml", `version="1.0" encoding="UTF-8"`)
	root := doc.CreateElement("Environment")
	root.CreateAttr("xmlns", nsEnvironment)
	root.CreateAttr("xmlns:ovfenv", nsEnvironment)
	root.CreateAttr("ovfenv:id", e.System)
	platform := root.CreateElement("PlatformSection")
	platform.CreateElement("Kind").SetText("Unvora")
	platform.CreateElement("Vendor").SetText("Unvora")
	if len(e.Properties) > 0 {
		section := root.CreateElement("PropertySection")
		for _, p := range e.Properties {
			q := section.CreateElement("Property")
			q.CreateAttr("ovfenv:key", p.Name)
			q.CreateAttr("ovfenv:value", p.Value)
		}
	}
	doc.Indent(2)
	return doc.WriteToString()
}
