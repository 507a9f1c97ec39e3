package fit

// Guest is what was found by looking into a machine's disks.
type Guest struct {
	System string `json:"system"` // "Debian GNU/Linux 12 (bookworm)"; "" when it could not be told
	OSType int    `json:"osType"` // CIM_OperatingSystem.OSType; 0 likewise
	// models of controllers and NICs that it is seen to have a driver for; nil: not known
	Drivers []string `json:"drivers"`
	Name    string   `json:"name"` // that it gives itself
	Boot    string   `json:"boot"` // how the disk starts: bios, uefi, "" when it does not
	// what on it reads first-start data; "" for nothing that was seen
	Initialiser string `json:"initialiser,omitempty"`
}

// FileSystem is one on a disk, and what of it is free.
type FileSystem struct {
	Kind      string `json:"kind"`  // "ext4"
	Start     int64  `json:"start"` // in bytes of the disk
	Bytes     int64  `json:"bytes"`
	FreeBytes int64  `json:"freeBytes"`
	Kept      string `json:"kept,omitempty"` // why nothing of it counts as free
}

// FreeSpace is what the file systems on a disk mark as free.
type FreeSpace struct {
	Systems   []FileSystem `json:"systems"`
	DataBytes int64        `json:"dataBytes"` // that the image holds in there: what leaving it out saves
}
