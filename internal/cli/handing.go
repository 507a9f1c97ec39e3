package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk/formats"
)

// handing is what a package is to hold, as options.
type handing struct {
	purpose, macs, identity, media, digest, ovf string
	diskFormat                                  string
	leaveOut, drop, properties                  []string
	name                                        string
	memory                                      int64
	cpus                                        int
	compact                                     bool
	product, vendor, version, licence           string
}

func (h *handing) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&h.purpose, "for", "", "restore: the machine stays the one that it is; hand-out: others get nothing "+
		"that is this one's alone. What is said below comes first; restore unless said")
	f.StringVar(&h.macs, "macs", "", "keep or drop")
	f.StringVar(&h.identity, "identity", "", "keep or drop its ids, fixed addresses, names of networks, and where it "+
		"comes from")
	f.StringVar(&h.media, "media", "", "named: drives name what lies in them; without: they are empty")
	f.StringArrayVar(&h.leaveOut, "leave-out", nil, "disk that the package does not hold")
	f.StringArrayVar(&h.drop, "drop", nil, "device or NIC that the receiver does not get")
	f.StringVar(&h.name, "name", "", "name for the receiver")
	f.Var(atLeast{&h.cpus, 1}, "cpus", "CPUs for the receiver")
	f.Var(bytesValue{&h.memory}, "memory", "memory for the receiver, such as 2GiB")
	f.StringArrayVar(&h.properties, "property", nil, "KEY=VALUE that the guest may read")
	f.StringVar(&h.product, "product", "", "what is in the machine")
	f.StringVar(&h.vendor, "vendor", "", "who made it")
	f.StringVar(&h.version, "version", "", "its version")
	f.StringVar(&h.licence, "licence", "", "file with the text that the receiver has to accept")
	f.StringVar(&h.digest, "digest", "", "sha1, sha256 or sha512, for the manifest; sha256 unless said. Readers that "+
		"know the standard's 1.x by the letter take sha1 only")
	f.StringVar(&h.ovf, "ovf", "", "1 or 2: version of the standard for the descriptor; as the machine's own is "+
		"unless said")
	f.StringVar(&h.diskFormat, "disk-format", "", "FORMAT or FORMAT:VARIANT that its disks are written as, such as "+
		"qcow2 or vhdx:fixed; vmdk, a stream of compressed blocks that every reader of packages knows, unless said")
	f.BoolVar(&h.compact, "compact", false, "leave out what clean ext2 to ext4, XFS and NTFS mark as free: the plan "+
		"says how much. All files read the same")
	for flag, words := range handingWords {
		cmd.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp))
	}
}

// handingWords are the values that options of a package take.
var handingWords = map[string][]string{"for": {"restore", "hand-out"}, "macs": {"keep", "drop"},
	"identity": {"keep", "drop"}, "media": {"named", "without"}, "digest": {"sha1", "sha256", "sha512"},
	"ovf": {"1", "2"}, "disk-format": formats.InPackages()}

// mostLicence is how many bytes a licence text may have.
const mostLicence = 100_000

// into puts what was said into a request.
func (h *handing) into(req *openapi.ExportRequest) error {
	for flag, value := range map[string]string{"for": h.purpose, "macs": h.macs, "identity": h.identity,
		"media": h.media, "digest": h.digest, "ovf": h.ovf, "disk-format": h.diskFormat} {
		if words := handingWords[flag]; value != "" && !slices.Contains(words, value) {
			return usage("--%s %q: one of %s", flag, value, strings.Join(words, ", "))
		}
	}
	req.For = (*openapi.ExportRequestFor)(optional(h.purpose))
	req.Macs = (*openapi.ExportRequestMacs)(optional(h.macs))
	req.Identity = (*openapi.ExportRequestIdentity)(optional(h.identity))
	req.Media = (*openapi.ExportRequestMedia)(optional(h.media))
	req.Digest = (*openapi.DigestOf)(optional(h.digest))
	req.Ovf = (*openapi.ExportRequestOvf)(optional(h.ovf))
	req.DiskFormat = (*openapi.ExportRequestDiskFormat)(optional(h.diskFormat))
	req.Name = optional(h.name)
	if len(h.leaveOut) > 0 {
		req.LeaveOut = &h.leaveOut
	}
	if len(h.drop) > 0 {
		req.Drop = &h.drop
	}
	if h.compact {
		req.Compact = &h.compact
	}
	if h.cpus > 0 {
		req.Cpus = &h.cpus
	}
	if h.memory != 0 {
		req.MemoryBytes = &h.memory
	}
	product := openapi.Product{Name: optional(h.product), Vendor: optional(h.vendor), Version: optional(h.version)}
	var err error
	if product.Properties, err = pairs("--property", h.properties); err != nil {
		return err
	}
	if h.licence != "" {
		text, err := readText("--licence", h.licence, mostLicence)
		if err != nil {
			return err
		}
		product.Licence = &text
	}
	if product != (openapi.Product{}) {
		req.Product = &product
	}
	return nil
}
