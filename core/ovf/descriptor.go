// Package ovf reads and writes machine descriptors and packages.
//
// Source: DMTF DSP0243 "Open Virtualization Format Specification", versions
// 1.1 and 2.0: envelope (section 7), references and disk section (8, 9.1),
// hardware description (8), manifest (6.4), distribution as one file (6.3:
// OVA, a USTAR archive).
//
// A descriptor is kept as a tree: what is not understood stays as it was, also
// when the machine in it is changed.
package ovf

import (
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"github.com/beevik/etree"

	"unvora.example/unvora/core/machine"
)

const (
	nsEnvelope1 = "http://schemas.dmtf.org/ovf/envelope/1"
	nsEnvelope2 = "http://schemas.dmtf.org/ovf/envelope/2"
	nsCIM       = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/"
	nsRASD      = nsCIM + "CIM_ResourceAllocationSettingData"
	nsVSSD      = nsCIM + "CIM_VirtualSystemSettingData"
	nsEPASD     = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_EthernetPortAllocationSettingData.xsd"
	nsSASD      = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_StorageAllocationSettingData.xsd"
	nsUnvora    = "urn:x-unvora:descriptor:1" // ours: what OVF has no place for

	MaxDescriptorBytes = 8 << 20
	MaxMachines        = 500 // in one package: each becomes a copy of its own in the inventory
	maxDepth           = 64
)

// Resource types of CIM_ResourceAllocationSettingData that are read.
const (
	typeOther    = 1
	typeCPU      = 3
	typeMemory   = 4
	typeIDE      = 5
	typeSCSI     = 6
	typeEthernet = 10
	typeFloppy   = 14
	typeCD       = 15
	typeDVD      = 16
	typeDisk     = 17
	typeStorage  = 20
	typeSerial   = 21
	typeParallel = 22
	typeUSB      = 23
	typeSound    = 35 // not of the schema, but common
)

// devices are the resource types that are read as devices; the first of a kind
// is written. Those without a type of their own are written as typeOther with
// their kind as subtype.
var devices = []struct {
	resource int
	kind     string
}{
	{typeCD, machine.DeviceCD}, {typeDVD, machine.DeviceCD}, {typeFloppy, machine.DeviceFloppy},
	{typeSerial, machine.DeviceSerial},
	{typeParallel, machine.DeviceParallel}, {typeUSB, machine.DeviceUSB}, {typeOther, machine.DeviceSound},
	{typeSound, machine.DeviceSound},
	{typeOther, machine.DevicePassthrough}, {typeOther, machine.DeviceShare},
}

// deviceOf is the kind of device that an item stands for; "" for none.
func deviceOf(resource int, sub string) string {
	for _, d := range devices {
		if d.resource == resource && (resource != typeOther || strings.EqualFold(sub, d.kind)) {
			return d.kind
		}
	}
	return ""
}

var controllers = map[int]string{typeIDE: "ide", typeSCSI: "scsi", typeStorage: "ahci"}

// formatURIs are the values of ovf:format by which disk formats go. The first
// of a format is written; a URI is matched without its fragment too.
var formatURIs = []struct{ uri, format string }{
	{"http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized", "vmdk"},
	{"http://www.vmware.com/interfaces/specifications/vmdk.html", "vmdk"},
	{"http://www.gnome.org/~markmc/qcow-image-format.html", "qcow2"},
	{"http://technet.microsoft.com/en-us/library/bb676673.aspx", "vhd"},
	{"urn:x-unvora:format:vhdx", "vhdx"},
	{"urn:x-unvora:format:raw", "raw"},
}

// Descriptor is a parsed envelope.
type Descriptor struct {
	doc      *etree.Document
	ns       string            // of the envelope
	Version  string            // 1 or 2
	Machines []machine.Machine // each virtual system, in order
	Files    []FileRef         // of the References section
	Options  []Option          // deployment options, in order
	Notes    []Deviation

	odd    Deviation
	option string // the one that is read; "" for the default
}

// Option is a configuration that a descriptor offers (DSP0243, section 9.8).
type Option struct {
	ID, Label string
	Default   bool
}

// FileRef is a file that the descriptor names.
type FileRef struct {
	ID, Href  string
	SizeBytes int64 // 0 when not stated
	PartBytes int64 // of the parts that it comes in; 0 for a file that is one
}

// Deviation is something about a package or descriptor that its user should
// know; Code is one of the catalogue of findings.
type Deviation struct {
	Code    string
	Subject string
	Message string
}

// Problem is a Deviation that ends the reading.
type Problem struct {
	Code    string
	Subject string // file or entry
	Offset  int64  // in bytes, -1 when there is none
	Line    int    // of a descriptor, 0 when there is none
	Message string
}

func (p *Problem) Error() string {
	where := p.Subject
	if p.Line > 0 {
		where += fmt.Sprintf(", line %d", p.Line)
	}
	if p.Offset >= 0 {
		where += fmt.Sprintf(", byte %d", p.Offset)
	}
	return where + ": " + p.Message
}

// Parse reads a descriptor; name is told in errors.
func Parse(name string, raw []byte) (*Descriptor, error) {
	if len(raw) > MaxDescriptorBytes {
		return nil, &Problem{Code: "package.too-large", Subject: name, Offset: -1,
			Message: fmt.Sprintf("the descriptor has %d bytes; at most %d are read", len(raw), MaxDescriptorBytes)}
	}
	raw, err := inUTF8(name, raw)
	if err != nil {
		return nil, err
	}
	if err := checkXML(name, raw); err != nil {
		return nil, err
	}
	doc := etree.NewDocument()
	if err := doc.ReadFromBytes(raw); err != nil {
		return nil, malformed(name, 0, "%v", err)
	}
	root := doc.Root()
	if root == nil || root.Tag != "Envelope" {
		return nil, malformed(name, 1, "the outermost element is not an OVF Envelope")
	}
	d := &Descriptor{doc: doc, ns: root.NamespaceURI()}
	switch d.ns {
	case nsEnvelope1:
		d.Version = "1"
	case nsEnvelope2:
		d.Version = "2"
	default:
		if !strings.Contains(d.ns, "ovf") {
			return nil, &Problem{Code: "descriptor.malformed", Subject: name, Offset: -1, Line: 1,
				Message: fmt.Sprintf("envelope namespace %q is not that of OVF", d.ns)}
		}
		d.Version = "1"
		d.odd = Deviation{"descriptor.version", name, fmt.Sprintf("It is of a version that is neither 1 nor 2 (%s). "+
			"It can "+
			"be read as version 1.", d.ns)}
	}
	return d, d.read(name)
}

var known = map[string]bool{
	"References": true, "DiskSection": true, "NetworkSection": true, "VirtualSystem": true,
	"VirtualSystemCollection": true,
	"VirtualHardwareSection":  true, "OperatingSystemSection": true, "AnnotationSection": true, "ProductSection": true,
	"EulaSection": true, "Strings": true, "Info": true, "Name": true, "DeploymentOptionSection": true,
	"StartupSection":            true,
	"ResourceAllocationSection": true, "PassportSection": true, "MachineSection": true,
}

// Choose reads the machines as a deployment option has them.
func (d *Descriptor) Choose(option string) error {
	for _, o := range d.Options {
		if o.ID == option {
			d.option = option
			d.Machines, d.Files, d.Options, d.Notes = nil, nil, nil, nil
			return d.read("descriptor")
		}
	}
	return fmt.Errorf("there is no deployment option %q", option)
}

// options reads the deployment options and settles which one holds.
func (d *Descriptor) options(root *etree.Element) {
	labels := []string{}
	for _, c := range children(child(root, "DeploymentOptionSection"), "Configuration") {
		o := Option{ID: attr(c, "id"), Label: text(c, "Label"), Default: attr(c, "default") == "true"}
		d.Options = append(d.Options, o)
		labels = append(labels, fmt.Sprintf("%s (%s)", o.ID, o.Label))
		if o.Default && d.option == "" {
			d.option = o.ID
		}
	}
	if len(d.Options) > 0 {
		if d.option == "" {
			d.option = d.Options[0].ID
			d.Options[0].Default = true
		}
		d.Notes = append(d.Notes, Deviation{"descriptor.deployment-options", d.option,
			"It offers configurations: " + strings.Join(labels, ", ") + "."})
	}
}

// holds tells whether an item is of the configuration that was chosen.
func (d *Descriptor) holds(item *etree.Element) bool {
	of := strings.Fields(attr(item, "configuration"))
	return len(of) == 0 || slices.Contains(of, d.option)
}

// safeDiskIDs gives disks whose ids can't be part of a file's name ids that can,
// wherever they are named.
func safeDiskIDs(root *etree.Element) {
	safe, taken := map[string]string{}, map[string]bool{}
	list := children(child(root, "DiskSection"), "Disk")
	for _, e := range list {
		taken[attr(e, "diskId")] = true
	}
	for _, e := range list {
		id := attr(e, "diskId")
		if id == "" || machine.CheckName(id) == nil {
			continue
		}
		clean := machine.CleanName(id)
		for n := 2; taken[clean]; n++ {
			clean = fmt.Sprintf("%s-%d", machine.CleanName(id), n)
		}
		safe[id], taken[clean] = clean, true
	}
	renameDisks(root, safe)
}

// renameDisks gives disks other ids, in the envelope and in the hardware; ids has the new ones by the old.
func renameDisks(root *etree.Element, ids map[string]string) {
	nameAnew(root, ids, "/disk/", "diskId", "parentRef")
}

// nameAnew puts other ids into the place of those that attributes of these keys, and resources of a kind, name.
func nameAnew(root *etree.Element, ids map[string]string, kind string, keys ...string) {
	if len(ids) == 0 {
		return
	}
	walk(root, func(e *etree.Element) {
		for i, a := range e.Attr {
			if id := ids[a.Value]; id != "" && slices.Contains(keys, a.Key) {
				e.Attr[i].Value = id
			}
		}
		if before, id, ok := strings.Cut(e.Text(), kind); ok && e.Tag == "HostResource" &&
			ids[strings.TrimSpace(id)] != "" {
			e.SetText(before + kind + ids[strings.TrimSpace(id)])
		}
	})
}

// askFor notes what a machine or a collection asks its user: licence texts and
// properties without a value (DSP0243, sections 9.5 and 9.6).
func (d *Descriptor) askFor(e *etree.Element, who string) {
	for _, l := range children(e, "EulaSection") {
		d.Notes = append(d.Notes, Deviation{"descriptor.eula", who, strings.TrimSpace(text(l, "License"))})
	}
	for _, p := range children(e, "ProductSection") {
		for _, q := range children(p, "Property") {
			if d.valueOf(q) != "" || attr(q, "userConfigurable") != "true" || attr(q, "type") == "boolean" {
				continue
			}
			key := propertyName(p, q)
			about := text(q, "Label")
			if about == "" {
				about = text(q, "Description")
			}
			d.Notes = append(d.Notes, Deviation{"descriptor.property-missing", key,
				strings.TrimSpace(fmt.Sprintf("The product property %s has no value. %s", key, about))})
		}
	}
}

// systemsOf are the elements that machines are read from, in their order: those of the envelope, and of collections in
// it.
func systemsOf(root *etree.Element) []*etree.Element {
	systems := children(root, "VirtualSystem")
	for _, c := range children(root, "VirtualSystemCollection") {
		systems = append(systems, children(c, "VirtualSystem")...)
	}
	return systems
}

// system is the element that machine number n is read from.
func (d *Descriptor) system(n int) (*etree.Element, error) {
	systems := systemsOf(d.doc.Root())
	if n < 0 || n >= len(systems) {
		return nil, fmt.Errorf("the descriptor has %d machines, not %d", len(systems), n+1)
	}
	return systems[n], nil
}

func (d *Descriptor) read(name string) error {
	root := d.doc.Root()
	if d.odd.Code != "" {
		d.Notes = append(d.Notes, d.odd)
	}
	d.options(root)
	files := map[string]FileRef{}
	for _, f := range children(child(root, "References"), "File") {
		size, _ := strconv.ParseInt(attr(f, "size"), 10, 64)
		part, _ := strconv.ParseInt(attr(f, "chunkSize"), 10, 64)
		ref := FileRef{attr(f, "id"), attr(f, "href"), max(0, size), max(0, part)}
		if _, twice := files[ref.ID]; twice || ref.ID == "" || ref.Href == "" {
			return malformed(name, 0, "the References section has a File without id or href, or the id %q twice",
				ref.ID)
		}
		files[ref.ID] = ref
		d.Files = append(d.Files, ref)
	}
	safeDiskIDs(root)
	disks := map[string]machine.Disk{}
	for _, e := range children(child(root, "DiskSection"), "Disk") {
		id := attr(e, "diskId")
		bytes, err := capacity(attr(e, "capacity"), attr(e, "capacityAllocationUnits"))
		if err != nil {
			return malformed(name, 0, "disk %q: %v", id, err)
		}
		disk := machine.Disk{ID: id, VirtualBytes: bytes, Format: formatOf(attr(e, "format"))}
		if ref := attr(e, "fileRef"); ref != "" {
			f, ok := files[ref]
			if !ok {
				return malformed(name, 0, "disk %q names the file %q, which the References section does not list", id,
					ref)
			}
			disk.File, disk.FileBytes = f.Href, f.SizeBytes
		}
		disks[id] = disk
	}
	networks := map[string]*etree.Element{}
	for _, n := range children(child(root, "NetworkSection"), "Network") {
		networks[attr(n, "name")] = n
	}
	systems := systemsOf(root)
	for _, c := range children(root, "VirtualSystemCollection") {
		d.askFor(c, attr(c, "id"))
	}
	if len(systems) > MaxMachines {
		return &Problem{Code: "package.too-large", Subject: name, Offset: -1,
			Message: fmt.Sprintf("it describes %d machines; at most %d are read", len(systems), MaxMachines)}
	}
	for _, s := range systems {
		d.askFor(s, attr(s, "id"))
		m, err := d.readSystem(s, disks, networks)
		if err != nil {
			return malformed(name, 0, "machine %q: %v", attr(s, "id"), err)
		}
		d.Machines = append(d.Machines, *m)
		d.unknown(s)
	}
	d.unknown(root)
	if len(d.Machines) == 0 {
		return malformed(name, 0, "it describes no machine")
	}
	return nil
}

// unknown notes required sections that are not understood.
func (d *Descriptor) unknown(e *etree.Element) {
	for _, c := range e.ChildElements() {
		if !known[c.Tag] && attr(c, "required") != "false" && strings.HasSuffix(c.Tag, "Section") {
			d.Notes = append(d.Notes, Deviation{"descriptor.section-required", c.Tag,
				fmt.Sprintf("The section %s is marked as required and is not understood. It is kept as it is.", c.Tag)})
		}
	}
}

func (d *Descriptor) readSystem(s *etree.Element, disks map[string]machine.Disk,
	networks map[string]*etree.Element) (*machine.Machine, error) {
	m := &machine.Machine{Name: text(s, "Name"), Firmware: "bios"}
	if m.Name == "" {
		m.Name = attr(s, "id")
	}
	if osSection := child(s, "OperatingSystemSection"); osSection != nil {
		m.GuestID, _ = strconv.Atoi(attr(osSection, "id"))
		m.Guest = text(osSection, "Description")
	}
	hw := child(s, "VirtualHardwareSection")
	if hw == nil {
		return nil, errors.New("it has no VirtualHardwareSection")
	}
	parents := map[string]string{} // InstanceID → controller
	items := slices.DeleteFunc(children(hw, "Item", "StorageItem", "EthernetPortItem"),
		func(it *etree.Element) bool { return !d.holds(it) })
	for _, it := range items {
		if t, _ := strconv.Atoi(text(it, "ResourceType")); controllers[t] != "" {
			parents[text(it, "InstanceID")] = controllers[t]
			if sub := text(it, "ResourceSubType"); sub != "" {
				parents[text(it, "InstanceID")] = strings.ToLower(sub)
			}
		}
	}
	for _, it := range items {
		quantity := text(it, "VirtualQuantity")
		switch t, _ := strconv.Atoi(text(it, "ResourceType")); t {
		case typeCPU:
			n, err := strconv.Atoi(quantity)
			if err != nil || n < 1 || n > 1<<16 {
				return nil, fmt.Errorf("%q is no number of CPUs", quantity)
			}
			m.CPUs = n
		case typeMemory:
			bytes, err := capacity(quantity, text(it, "AllocationUnits"))
			if err != nil {
				return nil, fmt.Errorf("memory: %v", err)
			}
			m.MemoryBytes = bytes
		case typeDisk:
			host := text(it, "HostResource")
			_, id, ok := strings.Cut(host, "/disk/")
			disk, there := disks[id]
			if !ok || !there {
				return nil, fmt.Errorf("a disk drive names %q, which the DiskSection does not list", host)
			}
			disk.Controller = parents[text(it, "Parent")]
			disk.Slot, _ = strconv.Atoi(text(it, "AddressOnParent"))
			m.Disks = append(m.Disks, disk)
		case typeEthernet:
			n := machine.NIC{Name: text(it, "ElementName"), Model: text(it, "ResourceSubType"),
				Network: text(it, "Connection")}
			if n.Name == "" {
				n.Name = "NIC " + strconv.Itoa(len(m.NICs)+1)
			}
			if a := text(it, "Address"); a != "" {
				mac, err := machine.ParseMAC(a)
				if err != nil {
					return nil, fmt.Errorf("NIC %q: %v", n.Name, err)
				}
				n.MAC = mac
			}
			if e := networks[n.Network]; e != nil {
				n.Segment = attr(e, "segment")
				n.VLAN, _ = strconv.Atoi(attr(e, "vlan"))
			}
			m.NICs = append(m.NICs, n)
		default:
			if kind := deviceOf(t, text(it, "ResourceSubType")); kind != "" {
				dev := machine.Device{Kind: kind, Name: text(it, "ElementName"),
					File: strings.TrimPrefix(text(it, "HostResource"), "ovf:/file/")}
				if dev.Name == "" {
					dev.Name = fmt.Sprintf("%s %d", kind, len(m.Devices)+1)
				}
				m.Devices = append(m.Devices, dev)
			} else if attr(it, "required") == "true" && controllers[t] == "" {
				d.Notes = append(d.Notes, Deviation{"descriptor.item-required", text(it, "ElementName"),
					fmt.Sprintf("The hardware item %s (resource type %d) is marked as required, and no host can give "+
						"it.",
						text(it, "ElementName"), t)})
			}
		}
	}
	if own := child(s, "MachineSection"); own != nil && own.NamespaceURI() == nsUnvora {
		readOwn(own, m)
	}
	m.Passport = readPassport(child(s, "PassportSection"))
	return m, nil
}

func formatOf(uri string) string {
	for _, f := range formatURIs {
		if strings.EqualFold(uri, f.uri) {
			return f.format
		}
	}
	base, _, _ := strings.Cut(uri, "#")
	for _, f := range formatURIs {
		if strings.EqualFold(base, f.uri) {
			return f.format
		}
	}
	return ""
}

// capacity multiplies a number with programmatic units (DSP0004, annex C.1):
// "byte", "byte * 2^20", "MegaBytes" in older files.
func capacity(number, units string) (int64, error) {
	n, ok := new(big.Int).SetString(strings.TrimSpace(number), 10)
	if !ok || n.Sign() < 0 {
		return 0, fmt.Errorf("%q is not a number", number)
	}
	factor, ok := unitBytes(units)
	if !ok {
		return 0, fmt.Errorf("unknown unit %q", units)
	}
	if n.Mul(n, factor); !n.IsInt64() || n.Int64() > 1<<60 {
		return 0, fmt.Errorf("%s of %s is more than any machine has", number, units)
	}
	return n.Int64(), nil
}

func unitBytes(units string) (*big.Int, bool) {
	if old, ok := map[string]int64{"": 1, "kilobytes": 1 << 10, "megabytes": 1 << 20,
		"gigabytes": 1 << 30}[strings.ToLower(units)]; ok {
		return big.NewInt(old), true
	}
	total := big.NewInt(1)
	for i, part := range strings.Split(units, "*") {
		part = strings.TrimSpace(part)
		if i == 0 {
			if part != "byte" {
				return nil, false
			}
			continue
		}
		base, exp, power := strings.Cut(part, "^")
		b, err1 := strconv.ParseInt(base, 10, 32)
		x := int64(1)
		var err2 error
		if power {
			x, err2 = strconv.ParseInt(exp, 10, 32)
		}
		if err1 != nil || err2 != nil || b < 1 || x < 0 || x > 60 {
			return nil, false
		}
		total.Mul(total, new(big.Int).Exp(big.NewInt(b), big.NewInt(x), nil))
	}
	return total, true
}
