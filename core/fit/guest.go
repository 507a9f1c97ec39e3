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
