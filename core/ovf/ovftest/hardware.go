package ovftest

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Properties of CIM_ResourceAllocationSettingData and CIM_VirtualSystemSettingData. Their schemas are sequences in the
// order of the alphabet.
var (
	allocation = []string{"Address", "AddressOnParent", "AllocationUnits", "AutomaticAllocation",
		"AutomaticDeallocation", "Caption", "ChangeableType", "ConfigurationName", "Connection", "ConsumerVisibility",
		"Description", "ElementName", "Generation", "HostResource", "InstanceID", "Limit", "MappingBehavior",
		"OtherResourceType", "Parent", "PoolID", "Reservation", "ResourceSubType", "ResourceType", "SoID", "SoOrgID",
		"VirtualQuantity", "VirtualQuantityUnits", "Weight"}
	system = []string{"AutomaticRecoveryAction", "AutomaticShutdownAction", "AutomaticStartupAction",
		"AutomaticStartupActionDelay", "AutomaticStartupActionSequenceNumber", "Caption", "ChangeableType",
		"ConfigurationDataRoot", "ConfigurationFile", "ConfigurationID", "ConfigurationName", "CreationTime",
		"Description", "ElementName", "Generation", "InstanceID", "LogDataRoot", "Notes",
		"RecoveryFile", "SnapshotDataRoot", "SoID", "SoOrgID", "SuspendDataRoot", "SwapFileDataRoot",
		"VirtualSystemIdentifier", "VirtualSystemType"}
	// Further ones of the storage and Ethernet settings, which only 2.x has.
	storage = []string{"Access", "HostExtentName", "HostExtentNameFormat", "HostExtentNameNamespace",
		"HostExtentStartingAddress", "HostResourceBlockSize", "OtherHostExtentNameFormat",
		"OtherHostExtentNameNamespace", "VirtualResourceBlockSize", "DesiredVLANEndpointMode", "ManagerID",
		"NetworkPortProfileID", "OtherEndpointMode", "PortCorrelationID", "PortVID", "Promiscuous",
		"ReceiveBandwidthLimit", "SourceMACFilteringEnabled", "VSITypeID"}
)

// Types of resources, CIM_ResourceAllocationSettingData.ResourceType.
const (
	other     = 1
	processor = 3
	memory    = 4
	known     = 33 // is the last of them
	vendors   = 0x8000
)

// ordered holds the children of an item: their namespace, their names, their order.
func (c *checker) ordered(n *node, where, class string, names []string) {
	last := ""
	seen := map[string]bool{}
	for _, k := range n.nodes {
		switch {
		case k.space == c.ns: // an extension point
			continue
		case k.space != cim+class && k.space != cim+class+".xsd":
			c.breach("8.1", "%s: %s is of %q", where, k.tag, k.space)
		case !slices.Contains(names, k.tag):
			c.breach("8.1", "%s: there is no %s in CIM_%s", where, k.tag, class)
		case k.tag < last:
			c.breach("schema", "%s: %s stands behind %s", where, k.tag, last)
		}
		if seen[k.tag] && k.tag != "HostResource" && k.tag != "Connection" {
			c.breach("schema", "%s: %s is there twice", where, k.tag)
		}
		seen[k.tag], last = true, k.tag
	}
	for _, tag := range []string{"ElementName", "InstanceID"} {
		if n.says(tag) == "" {
			c.breach("8.1", "%s has no %s", where, tag)
		}
	}
}

// hardware is sections 8.1 to 8.3.
func (c *checker) hardware(s *node) {
	order := []string{"Info:1", "System:?", "Item"}
	if c.ns == envelope2 {
		order = []string{"Info:1", "System:?", "Item|StorageItem|EthernetPortItem"}
	}
	c.sequence(s, s.tag, order...)
	if sys := s.one("System"); sys != nil {
		c.ordered(sys, "System", "VirtualSystemSettingData", system)
	}
	ids := map[string]bool{}
	for _, it := range s.nodes {
		if id := it.says("InstanceID"); strings.HasSuffix(it.tag, "Item") {
			key := id + "/" + it.attrs["configuration"] + "/" + it.attrs["bound"]
			c.unique(ids, key, "InstanceIDs")
			ids[id] = true
		}
	}
	for _, it := range s.nodes {
		if strings.HasSuffix(it.tag, "Item") {
			c.item(it, ids)
		}
	}
}

func (c *checker) item(it *node, ids map[string]bool) {
	where := fmt.Sprintf("Item %s (%s)", it.says("InstanceID"), it.says("ElementName"))
	switch it.tag {
	case "Item":
		c.ordered(it, where, "ResourceAllocationSettingData", allocation)
	case "StorageItem":
		c.ordered(it, where, "StorageAllocationSettingData", slices.Concat(allocation, storage))
	default:
		c.ordered(it, where, "EthernetPortAllocationSettingData", slices.Concat(allocation, storage))
	}
	for _, o := range strings.Fields(it.attrs["configuration"]) {
		if !c.options[o] {
			c.breach("9.8", "%s: there is no configuration %q", where, o)
		}
	}
	if b, ok := it.attrs["bound"]; ok && b != "min" && b != "max" && b != "normal" {
		c.breach("8.4", "%s: bound is %q", where, b)
	}
	kind, err := strconv.Atoi(it.says("ResourceType"))
	switch {
	case err != nil || kind < 0 || kind > known && kind < vendors:
		c.breach("8.1", "%s: ResourceType is %q", where, it.says("ResourceType"))
	case kind == other && it.says("OtherResourceType") == "":
		c.breach("CIM", "%s is another resource, and does not say which", where)
	case (kind == processor || kind == memory) && it.says("VirtualQuantity") == "":
		c.breach("8.3", "%s does not say how much", where)
	}
	for _, tag := range []string{"VirtualQuantity", "Reservation", "Limit", "Weight"} {
		if v := it.says(tag); v != "" && !strings.HasPrefix(v, "${") {
			if _, err := strconv.ParseUint(v, 10, 64); err != nil {
				c.breach("schema", "%s: %s is %q", where, tag, v)
			}
		}
	}
	if u := it.says("AllocationUnits"); u != "" {
		c.unit(u, where)
	}
	if p := it.says("Parent"); p != "" && !ids[p] {
		c.breach("8.3", "%s: there is no item %q", where, p)
	}
	for _, h := range it.all("HostResource") {
		kind, ref, ours := "", "", strings.HasPrefix(h.text, "ovf:/")
		if ours {
			kind, ref, _ = strings.Cut(strings.TrimPrefix(h.text, "ovf:/"), "/")
		}
		if ours && (kind == "disk" && !c.disks[ref] || kind == "file" && !c.files[ref] ||
			kind != "disk" && kind != "file") {
			c.breach("8.3", "%s: %q leads nowhere", where, h.text)
		}
	}
	for _, n := range it.all("Connection") {
		if !c.networks[n.text] {
			c.breach("8.3", "%s: there is no network %q", where, n.text)
		}
	}
}
