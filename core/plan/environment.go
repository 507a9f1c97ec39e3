package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/ovf"
)

const propertyMissing = "descriptor.property-missing"

// told is what a machine of a package is told of it, with the values that were said, and those of them that are no
// secrets as KEY=VALUE.
func told(facts ImportFacts, said map[string]string) (*ovf.Environment, []string, error) {
	d := facts.Package.Envelope
	env, err := d.Environment(facts.Machine)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		there, err := env.Set(name, said[name])
		if err != nil {
			return nil, nil, fmt.Errorf("property %w", err)
		}
		if there {
			continue
		}
		if err := ofAnother(d, name); err != nil {
			return nil, nil, err
		}
	}
	var set []string
	for _, p := range env.Properties {
		if _, is := said[p.Name]; is && !p.Secret { // the inventory is read by many
			set = append(set, p.Name+"="+p.Value)
		}
	}
	return env, set, nil
}

// ofAnother is an error unless a machine of the package has a property of that name.
func ofAnother(d *ovf.Descriptor, name string) error {
	names := []string{}
	for n := range d.Machines {
		env, err := d.Environment(n)
		if err != nil {
			return err
		}
		for _, p := range env.Properties {
			if p.Name == name {
				return nil
			}
			if p.Settable && !slices.Contains(names, p.Name) {
				names = append(names, p.Name)
			}
		}
	}
	if len(names) == 0 {
		return fmt.Errorf("property %s: the package asks for none", name)
	}
	return fmt.Errorf("the package has no property %q; it asks for %s", name, strings.Join(names, ", "))
}

// mostTold is how many properties a finding names.
const mostTold = 20

// environment is the document that a machine is told on a disc; "" where its package asks for none there.
func (b *builder) environment(env *ovf.Environment, name string) (string, error) {
	var values, asked []string
	var detail []map[string]any
	for _, p := range env.Properties {
		if p.Settable {
			asked = append(asked, p.Name)
			one := map[string]any{"name": p.Name, "label": p.Label, "type": p.Type, "secret": p.Secret}
			if !p.Secret {
				one["value"] = p.Value
			}
			detail = append(detail, one)
		}
		switch {
		case len(values) == mostTold:
			values = append(values, fmt.Sprintf("and %d more", len(env.Properties)-mostTold))
		case len(values) < mostTold && p.Secret && p.Value != "":
			values = append(values, p.Name+" (not shown)")
		case len(values) < mostTold:
			values = append(values, fmt.Sprintf("%s=%s", p.Name, shortened(p.Value)))
		}
	}
	switch {
	case env.Disc:
		says := "As its package asks for, its guest is told on a disc where it is"
		if len(values) > 0 {
			says += ": " + strings.Join(values, ", ")
		}
		says += "."
		if len(asked) > 0 {
			says += " Other values: --property KEY=VALUE."
		}
		b.raise(fit.Raise("environment.told", name, says, map[string]any{"properties": detail}), "")
		return env.Document()
	case len(asked) > 0:
		says := fmt.Sprintf("Its package does not say that its guest reads %s from a disc: they are kept in its "+
			"descriptor, and its guest is not told. Where it has to know them, by hand, inside.",
			strings.Join(asked[:min(len(asked), mostTold)], ", "))
		b.raise(fit.Raise("environment.untold", name, says, map[string]any{"properties": detail}), "")
	}
	return "", nil
}

// shortened is a value as far as a finding shows it.
func shortened(value string) string {
	const most = 60
	if runes := []rune(value); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return value
}
