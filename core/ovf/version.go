package ovf

import (
	"fmt"
	"slices"
	"strings"

	"github.com/beevik/etree"
)

// settings are the properties of CIM_ResourceAllocationSettingData (CIM schema 2.22), in the order of its schema: what
// an Item of OVF 1.x has. Items of their own kinds came with OVF 2.0 (DSP0243 2.0.1, section 8.1).
var settings = []string{"Address", "AddressOnParent", "AllocationUnits", "AutomaticAllocation",
	"AutomaticDeallocation", "Caption", "Connection", "ConsumerVisibility", "Description", "ElementName",
	"HostResource", "InstanceID", "Limit", "MappingBehavior", "OtherResourceType", "Parent", "PoolID",
	"Reservation", "ResourceSubType", "ResourceType", "VirtualQuantity", "VirtualQuantityUnits", "Weight"}

// since2 are sections that OVF 2.0 brought (DSP0243 2.0.1, sections 9.10 to 9.15).
var since2 = []string{"EnvironmentFilesSection", "BootDeviceSection", "SharedDiskSection", "ScaleOutSection",
	"PlacementGroupSection", "PlacementSection", "EncryptionSection"}

// SetVersion makes the descriptor one of OVF 1.x ("1") or 2.x ("2"). For 1.x what only 2.x has goes: sections that
// came with it, and settings of disks and NICs that an Item has no place for.
func (d *Descriptor) SetVersion(version string) error {
	ns, ok := map[string]string{"1": nsEnvelope1, "2": nsEnvelope2}[version]
	if !ok {
		return fmt.Errorf("there is no version %q of OVF: 1 or 2", version)
	}
	was := d.ns
	if was == ns {
		return nil
	}
	rasd := ""
	if version == "1" {
		rasd = strings.TrimSuffix(d.prefixOf(nsRASD, "rasd"), ":")
	}
	var walk func(e *etree.Element)
	walk = func(e *etree.Element) {
		for i := range e.Attr {
			if (e.Attr[i].Space == "xmlns" || e.Attr[i].Key == "xmlns") && e.Attr[i].Value == was {
				e.Attr[i].Value = ns
			}
		}
		for _, c := range e.ChildElements() {
			of := c.NamespaceURI() // what is of another namespace stays, whatever its name
			switch standard := version == "1" && (of == was || of == ns); {
			case standard && slices.Contains(since2, c.Tag):
				e.RemoveChild(c)
				continue
			case standard && (c.Tag == "StorageItem" || c.Tag == "EthernetPortItem"):
				toItem(c, rasd)
			}
			walk(c)
		}
	}
	walk(d.doc.Root())
	d.ns, d.Version = ns, version
	return nil
}

// toItem makes an item of a kind of its own an Item, whose settings bear the prefix.
func toItem(e *etree.Element, prefix string) {
	e.Tag = "Item"
	kept := slices.DeleteFunc(e.ChildElements(),
		func(c *etree.Element) bool { return !slices.Contains(settings, c.Tag) })
	slices.SortStableFunc(kept, func(a, b *etree.Element) int {
		return slices.Index(settings, a.Tag) - slices.Index(settings, b.Tag)
	})
	e.Child = nil
	for _, c := range kept {
		c.Space = prefix
		e.AddChild(c)
	}
}
