package ovf

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"regexp"
	"sort"
	"strings"
)

// SHA256 is the algorithm of manifests unless another is asked for. Readers that know only DSP0243 1.x to the letter
// take SHA1.
const (
	SHA1   = "sha1"
	SHA256 = "sha256"
	SHA512 = "sha512"
)

// Digest is one line of a manifest.
type Digest struct {
	Algorithm string // SHA1, SHA256 or SHA512
	Sum       string // hexadecimal, lower case

	Parts []int64 `json:",omitempty"` // of a file in parts: their sizes; Sum is of the parts' digests then
}

var manifestLine = regexp.MustCompile(`^(SHA1|SHA-1|SHA256|SHA-256|SHA512|SHA-512)\s*\((.+)\)\s*=\s*([0-9a-fA-F]+)$`)

// ParseManifest reads the digests of a package's files (DSP0243, 6.4).
func ParseManifest(name string, raw []byte) (map[string]Digest, error) {
	sums := map[string]Digest{}
	lines := bufio.NewScanner(strings.NewReader(string(raw)))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" {
			continue
		}
		m := manifestLine.FindStringSubmatch(line)
		if m == nil {
			return nil, &Problem{Code: "manifest.mismatch", Subject: name, Offset: -1, Line: n,
				Message: "this is no line of a manifest: want SHA256(FILE)= DIGEST"}
		}
		d := Digest{Algorithm: strings.ToLower(strings.ReplaceAll(m[1], "-", "")), Sum: strings.ToLower(m[3])}
		if b, err := hex.DecodeString(d.Sum); err != nil || len(b) != map[string]int{"sha1": 20, "sha256": 32,
			"sha512": 64}[d.Algorithm] {
			return nil, &Problem{Code: "manifest.mismatch", Subject: name, Offset: -1, Line: n,
				Message: fmt.Sprintf("a digest of %d hexadecimal digits is no %s", len(d.Sum), m[1])}
		}
		sums[m[2]] = d
	}
	return sums, lines.Err()
}

// EncodeManifest writes digests of one algorithm, sorted by file.
func EncodeManifest(algorithm string, sums map[string]string) []byte {
	names := make([]string, 0, len(sums))
	for n := range sums {
		names = append(names, n)
	}
	sort.Strings(names)
	var b strings.Builder
	for _, n := range names {
		fmt.Fprintf(&b, "%s(%s)= %s\n", strings.ToUpper(algorithm), n, sums[n])
	}
	return []byte(b.String())
}
