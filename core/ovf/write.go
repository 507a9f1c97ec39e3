package ovf

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/beevik/etree"

	"unvora.example/unvora/core/machine"
)

// New makes a descriptor of OVF 1.1 for one machine.
func New(m *machine.Machine) (*Descriptor, error) {
	doc := etree.NewDocument()
	doc.CreateProcInst("xml", `version="1.0" encoding="UTF-8"`)
	root := doc.CreateElement("Envelope")
	for _, a := range [][2]string{{"xmlns", nsEnvelope1}, {"xmlns:ovf", nsEnvelope1}, {"xmlns:rasd", nsRASD},
		{"xmlns:vssd", nsVSSD}} {
		root.CreateAttr(a[0], a[1])
	}
	d := &Descriptor{doc: doc, ns: nsEnvelope1, Version: "1"}
	root.AddChild(d.element("References"))
	root.AddChild(d.section("DiskSection", disksInfo))
	root.AddChild(d.section("NetworkSection", networksInfo))
	s := d.section("VirtualSystem", "A virtual machine")
	root.AddChild(s)
	s.AddChild(d.element("Name"))
	s.AddChild(d.section("OperatingSystemSection", guestInfo))
	hw := d.section("VirtualHardwareSection", "The hardware that the machine needs")
	s.AddChild(hw)
	system := d.element("System")
	hw.AddChild(system)
	for _, f := range [][2]string{{"ElementName", "Virtual hardware"}, {"InstanceID", "0"},
		{"VirtualSystemType", "unvora-1"}} {
		system.CreateElement("vssd:" + f[0]).SetText(f[1])
	}
	return d, d.SetMachine(0, m)
}

// What sections say of themselves.
const (
	disksInfo    = "The disks of the machine"
	networksInfo = "The networks that the machine is on"
	guestInfo    = "The operating system installed"
)

// element is a new one of the envelope's namespace, with the prefix that its elements bear.
func (d *Descriptor) element(tag string) *etree.Element {
	e := etree.NewElement(tag)
	e.Space = d.doc.Root().Space
	return e
}

// section is a new element that begins with Info.
func (d *Descriptor) section(tag, about string) *etree.Element {
	e, i := d.element(tag), d.element("Info")
	i.SetText(about)
	e.AddChild(i)
	return e
}

// prefixOf is what names of a namespace are written with; it is declared where nobody has.
func (d *Descriptor) prefixOf(ns, wanted string) string {
	root := d.doc.Root()
	taken := map[string]bool{}
	for _, a := range root.Attr {
		if a.Space == "xmlns" && a.Value == ns {
			return a.Key + ":"
		}
		taken[a.Key] = true
	}
	for taken[wanted] {
		wanted += "1"
	}
	root.CreateAttr("xmlns:"+wanted, ns)
	return wanted + ":"
}

// prefix is what attributes of the envelope's namespace are written with.
func (d *Descriptor) prefix() string { return d.prefixOf(d.ns, "ovf") }

func setAttr(e *etree.Element, prefix, local, value string) {
	for i := range e.Attr {
		if e.Attr[i].Key == local && e.Attr[i].Space != "xmlns" {
			e.Attr[i].Value = value
			return
		}
	}
	e.CreateAttr(prefix+local, value)
}

// removeAttr takes an attribute out, whatever its prefix.
func removeAttr(e *etree.Element, local string) {
	for _, a := range e.Attr {
		if a.Key == local && a.Space != "xmlns" {
			e.RemoveAttr(a.FullKey())
			return
		}
	}
}

// SetMachine makes machine number n of the envelope what m says: names, ids,
// hardware, the files of its disks and its passport. Everything else stays.
// The files of a package with one machine become those of its disks.
func (d *Descriptor) SetMachine(n int, m *machine.Machine) error {
	root := d.doc.Root()
	s, err := d.system(n)
	if err != nil {
		return err
	}
	pre := d.prefix()
	setAttr(s, pre, "id", m.Name)
	name := child(s, "Name")
	if name == nil {
		name = d.element("Name")
		s.InsertChildAt(1, name)
	}
	name.SetText(m.Name)
	osSection := child(s, "OperatingSystemSection")
	if osSection == nil {
		osSection = d.section("OperatingSystemSection", guestInfo)
		s.InsertChildAt(name.Index()+1, osSection)
	}
	if m.GuestID != 0 || attr(osSection, "id") == "" {
		setAttr(osSection, pre, "id", strconv.Itoa(max(1, m.GuestID))) // 1: other
	}
	if m.Guest != "" {
		about := child(osSection, "Description")
		if about == nil {
			about = d.element("Description")
			osSection.AddChild(about)
		}
		about.SetText(m.Guest)
	}
	d.setDisks(root, m)
	d.setNetworks(root, m)
	hw := child(s, "VirtualHardwareSection")
	if hw == nil {
		return fmt.Errorf("machine %q has no VirtualHardwareSection", m.Name)
	}
	if system := child(hw, "System"); system != nil {
		setOrdered(system, "VirtualSystemIdentifier", m.Name)
	}
	d.setHardware(hw, m)
	d.setOwn(s, m)
	d.Machines, d.Files, d.Options, d.Notes = nil, nil, nil, nil
	return d.read("descriptor")
}

// Only leaves machine number n of the envelope and takes the others out, with a
// collection that held it. Of deployment options the chosen one stays.
func (d *Descriptor) Only(n int) error {
	root := d.doc.Root()
	if section := child(root, "DeploymentOptionSection"); section != nil {
		root.RemoveChild(section)
		for _, hw := range root.FindElements(".//VirtualHardwareSection") {
			for _, it := range children(hw, "Item", "StorageItem", "EthernetPortItem") {
				if !d.holds(it) {
					hw.RemoveChild(it)
				}
				for _, a := range it.Attr {
					if a.Key == "configuration" {
						it.RemoveAttr(a.FullKey())
					}
				}
			}
		}
	}
	s, err := d.system(n)
	if err != nil {
		return err
	}
	systems := root.FindElements(".//VirtualSystem")
	if len(systems) == 1 && len(d.Machines) == 1 && systems[0].Parent() == root {
		return nil
	}
	for _, s := range systems {
		s.Parent().RemoveChild(s)
	}
	for _, c := range children(root, "VirtualSystemCollection") {
		root.RemoveChild(c)
	}
	root.AddChild(s)
	return nil
}

func (d *Descriptor) setDisks(root *etree.Element, m *machine.Machine) {
	pre := d.prefix()
	refs, ds := child(root, "References"), child(root, "DiskSection")
	if refs == nil {
		refs = d.element("References")
		root.InsertChildAt(0, refs)
	}
	if ds == nil {
		ds = d.section("DiskSection", disksInfo)
		root.InsertChildAt(refs.Index()+1, ds)
	}
	old := map[string]*etree.Element{}
	for _, e := range children(ds, "Disk") {
		old[attr(e, "diskId")] = e
	}
	used := map[string]bool{}
	for _, e := range old {
		used[attr(e, "fileRef")] = true
	}
	for _, f := range children(refs, "File") { // those of disks are made anew
		if used[attr(f, "id")] {
			refs.RemoveChild(f)
		}
	}
	keep := map[string]bool{}
	for k, disk := range m.Disks {
		keep[disk.ID] = true
		e := old[disk.ID]
		if e == nil {
			e = d.element("Disk")
			ds.AddChild(e)
			setAttr(e, pre, "diskId", disk.ID)
		}
		setAttr(e, pre, "capacity", strconv.FormatInt(disk.VirtualBytes, 10))
		setAttr(e, pre, "capacityAllocationUnits", "byte")
		for _, f := range formatURIs {
			if f.format == disk.Format {
				setAttr(e, pre, "format", f.uri)
				break
			}
		}
		if disk.File != "" {
			f := d.element("File")
			id := "file-" + disk.ID
			setAttr(f, pre, "id", id)
			setAttr(f, pre, "href", disk.File)
			if disk.FileBytes > 0 {
				setAttr(f, pre, "size", strconv.FormatInt(disk.FileBytes, 10))
			}
			refs.InsertChildAt(k, f)
			setAttr(e, pre, "fileRef", id)
		} else {
			removeAttr(e, "fileRef")
		}
	}
	if len(d.doc.Root().FindElements(".//VirtualSystem")) == 1 {
		for id, e := range old {
			if !keep[id] {
				ds.RemoveChild(e)
			}
		}
	}
}

func (d *Descriptor) setNetworks(root *etree.Element, m *machine.Machine) {
	pre := d.prefix()
	ns := child(root, "NetworkSection")
	if ns == nil {
		ns = d.section("NetworkSection", networksInfo)
		at := 1
		if ds := child(root, "DiskSection"); ds != nil {
			at = ds.Index() + 1
		}
		root.InsertChildAt(at, ns)
	}
	have := map[string]*etree.Element{}
	for _, e := range children(ns, "Network") {
		have[attr(e, "name")] = e
	}
	used := map[string]bool{}
	for _, nic := range m.NICs {
		if nic.Network == "" {
			continue
		}
		used[nic.Network] = true
		e := have[nic.Network]
		if e == nil {
			e = d.element("Network")
			ns.AddChild(e)
			setAttr(e, pre, "name", nic.Network)
			about := d.element("Description")
			about.SetText("The " + nic.Network + " network")
			e.AddChild(about)
			have[nic.Network] = e
		}
		if nic.Segment != "" {
			setAttr(e, d.own(), "segment", nic.Segment)
			setAttr(e, d.own(), "vlan", strconv.Itoa(nic.VLAN))
		} else { // not known any more
			removeAttr(e, "segment")
			removeAttr(e, "vlan")
		}
	}
	if len(root.FindElements(".//VirtualSystem")) == 1 {
		for name, e := range have {
			if !used[name] {
				ns.RemoveChild(e)
			}
		}
	}
}

// own is what names of our namespace are written with.
func (d *Descriptor) own() string { return d.prefixOf(nsUnvora, "unvora") }

func (d *Descriptor) setHardware(hw *etree.Element, m *machine.Machine) {
	nextID := 1
	byType := map[int][]*etree.Element{}
	for _, it := range children(hw, "Item", "StorageItem", "EthernetPortItem") {
		t, _ := strconv.Atoi(text(it, "ResourceType"))
		byType[t] = append(byType[t], it)
		if id, err := strconv.Atoi(text(it, "InstanceID")); err == nil {
			nextID = max(nextID, id+1)
		}
	}
	// OVF wants the children of an item in alphabetical order.
	item := func(t int, name string, fields map[string]string) *etree.Element {
		e := d.element("Item")
		hw.AddChild(e)
		fields["ElementName"], fields["InstanceID"], fields["ResourceType"] = name, strconv.Itoa(nextID),
			strconv.Itoa(t)
		nextID++
		for _, k := range rasdOrder {
			if v := fields[k]; v != "" {
				e.CreateElement(d.prefixOf(nsRASD, "rasd") + k).SetText(v)
			}
		}
		return e
	}
	if cpu := byType[typeCPU]; len(cpu) > 0 {
		rename(cpu[0], cpuName, m.CPUs)
		setOrdered(cpu[0], "VirtualQuantity", strconv.Itoa(m.CPUs))
	} else {
		item(typeCPU, fmt.Sprintf(cpuName, m.CPUs), map[string]string{"AllocationUnits": "hertz * 10^6",
			"VirtualQuantity": strconv.Itoa(m.CPUs)})
	}
	if mem := byType[typeMemory]; len(mem) > 0 {
		rename(mem[0], memoryName, m.MemoryBytes>>20)
		unit := text(mem[0], "AllocationUnits")
		if factor, ok := unitBytes(unit); ok && m.MemoryBytes%factor.Int64() == 0 {
			setOrdered(mem[0], "VirtualQuantity", strconv.FormatInt(m.MemoryBytes/factor.Int64(), 10))
		} else {
			setOrdered(mem[0], "AllocationUnits", "byte")
			setOrdered(mem[0], "VirtualQuantity", strconv.FormatInt(m.MemoryBytes, 10))
		}
	} else {
		item(typeMemory, fmt.Sprintf(memoryName, m.MemoryBytes>>20),
			map[string]string{"AllocationUnits": "byte * 2^20", "VirtualQuantity": strconv.FormatInt(m.MemoryBytes>>20,
				10)})
	}
	drives := map[string]*etree.Element{}
	for _, e := range byType[typeDisk] {
		_, id, _ := strings.Cut(text(e, "HostResource"), "/disk/")
		drives[id] = e
	}
	parents := map[string]string{}
	for t, name := range controllers {
		for _, e := range byType[t] {
			parents[name] = text(e, "InstanceID")
			if sub := text(e, "ResourceSubType"); sub != "" {
				parents[strings.ToLower(sub)] = text(e, "InstanceID")
			}
		}
	}
	for _, disk := range m.Disks {
		e := drives[disk.ID]
		delete(drives, disk.ID)
		c := disk.Controller
		if c == "" {
			if e != nil {
				continue // where it is
			}
			c = "virtio-scsi"
		}
		if parents[c] == "" {
			t := typeSCSI
			for k, name := range controllers {
				if name == c {
					t = k
				}
			}
			made := item(t, "Disk controller", map[string]string{"Address": "0", "ResourceSubType": c})
			parents[c] = text(made, "InstanceID")
		}
		if e != nil {
			setOrdered(e, "Parent", parents[c])
			setOrdered(e, "AddressOnParent", strconv.Itoa(disk.Slot))
			continue
		}
		item(typeDisk, "Disk "+disk.ID, map[string]string{"AddressOnParent": strconv.Itoa(disk.Slot),
			"HostResource": "ovf:/disk/" + disk.ID, "Parent": parents[c]})
	}
	for _, e := range drives {
		hw.RemoveChild(e)
	}
	nics := byType[typeEthernet]
	for k, nic := range m.NICs {
		if k >= len(nics) {
			item(typeEthernet, nic.Name, map[string]string{"Address": nic.MAC, "AutomaticAllocation": "true",
				"Connection": nic.Network, "ResourceSubType": nic.Model})
			continue
		}
		e := nics[k]
		setOrdered(e, "ElementName", nic.Name)
		for tag, v := range map[string]string{"Address": nic.MAC, "Connection": nic.Network,
			"ResourceSubType": nic.Model} {
			if v != "" {
				setOrdered(e, tag, v)
			} else if c := child(e, tag); c != nil {
				e.RemoveChild(c)
			}
		}
	}
	for k := len(m.NICs); k < len(nics); k++ {
		hw.RemoveChild(nics[k])
	}
	there := map[string]*etree.Element{}
	for t, items := range byType {
		for _, e := range items {
			if deviceOf(t, text(e, "ResourceSubType")) != "" {
				there[text(e, "ElementName")] = e
			}
		}
	}
	for _, dev := range m.Devices {
		e := there[dev.Name]
		delete(there, dev.Name)
		if e == nil {
			fields := map[string]string{"HostResource": dev.File}
			for _, t := range devices {
				if t.kind == dev.Kind {
					if t.resource == typeOther {
						fields["OtherResourceType"], fields["ResourceSubType"] = dev.Kind, dev.Kind
					}
					item(t.resource, dev.Name, fields)
					break
				}
			}
			continue
		}
		switch c := child(e, "HostResource"); {
		case dev.File != "" && strings.TrimPrefix(text(e, "HostResource"), "ovf:/file/") != dev.File:
			setOrdered(e, "HostResource", dev.File)
		case dev.File == "" && c != nil:
			e.RemoveChild(c)
		}
	}
	for _, e := range there {
		hw.RemoveChild(e)
	}
}

// Names of items that tell how much there is.
const (
	cpuName    = "%d virtual CPUs"
	memoryName = "%d MiB of memory"
)

// rename keeps the name of an item true, where it is one of ours.
func rename[N int | int64](item *etree.Element, name string, n N) {
	var was int64
	if _, err := fmt.Sscanf(text(item, "ElementName"), name, &was); err == nil {
		setOrdered(item, "ElementName", fmt.Sprintf(name, n))
	}
}

var rasdOrder = []string{"Address", "AddressOnParent", "AllocationUnits", "AutomaticAllocation", "Connection",
	"Description", "ElementName", "HostResource", "InstanceID", "OtherResourceType", "Parent", "ResourceSubType",
	"ResourceType", "VirtualQuantity"}

// setOrdered sets a child of an item, or puts it where the order wants it,
// with the prefix that the item's other children bear.
func setOrdered(e *etree.Element, tag, value string) {
	if c := child(e, tag); c != nil {
		c.SetText(value)
		return
	}
	c := etree.NewElement(tag)
	c.SetText(value)
	at := 0
	for _, other := range e.ChildElements() {
		c.Space = other.Space
		if other.Tag < tag {
			at = other.Index() + 1
		}
	}
	e.InsertChildAt(at, c)
}

// setOwn writes the two sections of our own, after all others.
func (d *Descriptor) setOwn(s *etree.Element, m *machine.Machine) {
	for _, tag := range []string{"MachineSection", "PassportSection"} {
		if e := child(s, tag); e != nil {
			s.RemoveChild(e)
		}
	}
	ours, pre := d.own(), d.prefix()
	write := func(tag, about string, fields [][2]string) *etree.Element {
		e := s.CreateElement(ours + tag)
		setAttr(e, pre, "required", "false")
		i := d.element("Info")
		i.SetText(about)
		e.AddChild(i)
		for _, f := range fields {
			if f[1] != "" {
				e.CreateElement(ours + f[0]).SetText(f[1])
			}
		}
		return e
	}
	var fields [][2]string
	for _, f := range ownFields(m) {
		switch v := f.value.(type) {
		case *string:
			fields = append(fields, [2]string{f.name, *v})
		case *bool:
			if *v {
				fields = append(fields, [2]string{f.name, "true"})
			}
		case *int:
			if *v != 0 {
				fields = append(fields, [2]string{f.name, strconv.Itoa(*v)})
			}
		case *int64:
			if *v != 0 {
				fields = append(fields, [2]string{f.name, strconv.FormatInt(*v, 10)})
			}
		case *[]string:
			for _, one := range *v {
				fields = append(fields, [2]string{f.name, one})
			}
		}
	}
	own := write("MachineSection", "Ids and settings of the machine", fields)
	for _, d := range m.Disks {
		if d.Serial != "" {
			e := own.CreateElement(ours + diskSerial)
			e.CreateAttr("disk", d.ID)
			e.SetText(d.Serial)
		}
	}
	writeSnapshots(own, ours, m)
	if p := m.Passport; p != nil {
		write("PassportSection", "Where this copy comes from", [][2]string{
			{"Lineage", p.Lineage}, {"Copy", p.Copy}, {"Parent", p.Parent}, {"MadeBy", p.MadeBy},
			{"MadeAt", p.MadeAt.UTC().Format(time.RFC3339)}, {"Identity", p.Identity},
			{"Renewed", strings.Join(p.Renewed, " ")}})
	}
}

// Encode writes the descriptor as XML, padded with spaces to length bytes
// when that is more (0: as long as it is).
func (d *Descriptor) Encode(length int) ([]byte, error) {
	d.doc.Indent(2)
	raw, err := d.doc.WriteToBytes()
	if err != nil {
		return nil, err
	}
	if length > 0 && len(raw) > length {
		return nil, fmt.Errorf("descriptor has %d bytes, %d were set aside", len(raw), length)
	}
	for len(raw) < length-1 {
		raw = append(raw, ' ')
	}
	if len(raw) < length {
		raw = append(raw, '\n')
	}
	return raw, nil
}
