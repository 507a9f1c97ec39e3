package ovf_test

import (
	"bytes"
	"encoding"
	"encoding/hex"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/ovf"
)

// parted is a descriptor of one disk whose file comes in parts.
func parted(size, part int) string {
	return fmt.Sprintf(`<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"
	 xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
	 xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
	<References><File ovf:id="f" ovf:href="d.img" ovf:size="%d" ovf:chunkSize="%d"/></References>
	<DiskSection><Info/><Disk ovf:diskId="disk1" ovf:fileRef="f" ovf:capacity="4096"/></DiskSection>
	<VirtualSystem ovf:id="x"><Info/><VirtualHardwareSection><Info/>
	<Item><rasd:HostResource>ovf:/disk/disk1</rasd:HostResource><rasd:InstanceID>1</rasd:InstanceID>
	 <rasd:ResourceType>17</rasd:ResourceType></Item></VirtualHardwareSection></VirtualSystem>
	</Envelope>`, size, part)
}

// TestParts: a file in parts reads as one, in a folder, in several, and in an archive; and its digest is as if it was
// made at once, wherever it was broken off.
func TestParts(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	for range 60 {
		part := 1 + r.IntN(3000)
		size := part + 1 + r.IntN(9000)
		whole := disktest.Pattern(size, uint32(size))
		near, far := t.TempDir(), t.TempDir()
		text := parted(size, part)
		var members []ovf.Member
		var archive bytes.Buffer
		put := func(name string, data []byte) {
			require.NoError(t, ovf.WriteMember(&archive, name, int64(len(data)), time.Unix(0, 0),
				bytes.NewReader(data)))
		}
		put("x.ovf", []byte(text))
		require.NoError(t, os.WriteFile(filepath.Join(near, "x.ovf"), []byte(text), 0o600))
		for n := 0; n*part < size; n++ {
			piece := whole[n*part : min(size, (n+1)*part)]
			h := ovf.NewHash(ovf.SHA256)
			h.Write(piece)
			members = append(members, ovf.Member{Name: ovf.PartName("d.img", n), Sum: hex.EncodeToString(h.Sum(nil))})
			put(members[n].Name, piece)
			dir := []string{near, far}[r.IntN(2)]
			require.NoError(t, os.WriteFile(filepath.Join(dir, members[n].Name), piece, 0o600))
		}
		manifest := ovf.ManifestOf(ovf.SHA256, "x.ovf", []byte(text), members)
		require.NoError(t, os.WriteFile(filepath.Join(near, "x.mf"), manifest, 0o600))
		put("x.mf", manifest)
		file := filepath.Join(far, "x.ova")
		require.NoError(t, os.WriteFile(file, append(archive.Bytes(), ovf.Trailer...), 0o600))
		require.NoError(t, os.Rename(file, file+".ova"))

		inFolders, err := ovf.OpenFolders(disk.OS, []string{near, far})
		require.NoError(t, err)
		require.Equal(t, []string{"package.file-unused"}, codesOf(inFolders), "the archive that lies there")
		inArchive, err := ovf.OpenPath(file + ".ova")
		require.NoError(t, err)
		require.Empty(t, codesOf(inArchive))
		for _, o := range []*ovf.Opened{inFolders, inArchive} {
			require.NoError(t, o.Verify(t.Context(), nil))
			require.NotContains(t, codesOf(o), "manifest.mismatch")
			e, ok := o.Entry("d.img")
			require.True(t, ok)
			require.EqualValues(t, size, e.Size)
			require.EqualValues(t, size, o.Envelope.Machines[0].Disks[0].FileBytes)
			src, err := o.Source(e)
			require.NoError(t, err)
			got, err := io.ReadAll(io.NewSectionReader(src, 0, src.Size()))
			require.NoError(t, err)
			require.True(t, bytes.Equal(whole, got))
			from := r.IntN(size)
			some := make([]byte, r.IntN(size-from+100))
			n, err := src.ReadAt(some, int64(from))
			require.Equal(t, min(len(some), size-from), n)
			require.Equal(t, n < len(some), err == io.EOF)
			require.True(t, bytes.Equal(whole[from:from+n], some[:n]))

			// The digest, broken off and gone on with by another.
			at, sum := 0, o.Sums["d.img"].New()
			for at < size {
				n := min(size-at, 1+r.IntN(4000))
				sum.Write(whole[at : at+n])
				at += n
				state, err := sum.(encoding.BinaryMarshaler).MarshalBinary()
				require.NoError(t, err)
				sum = o.Sums["d.img"].New()
				require.NoError(t, sum.(encoding.BinaryUnmarshaler).UnmarshalBinary(state))
			}
			require.Equal(t, o.Sums["d.img"].Sum, hex.EncodeToString(sum.Sum(nil)))
			sum.Write([]byte{0})
			require.NotEqual(t, o.Sums["d.img"].Sum, hex.EncodeToString(sum.Sum(nil)), "more than there should be")
			sum.Reset()
			sum.Write(whole[:size-1])
			require.NotEqual(t, o.Sums["d.img"].Sum, hex.EncodeToString(sum.Sum(nil)), "less")
		}
		e, _ := inArchive.Entry("d.img") // where each byte lies in the archive, for who reads it from afar
		raw := archive.Bytes()
		for at := int64(0); at < e.Size; {
			off, run := e.At(at)
			require.Positive(t, run)
			require.True(t, bytes.Equal(whole[at:at+run], raw[off:off+run]))
			at += run
		}
		_, run := e.At(e.Size)
		require.Zero(t, run)
		require.NoError(t, inFolders.Close())
		require.NoError(t, inArchive.Close())
	}
}

func codesOf(o *ovf.Opened) (codes []string) {
	for _, d := range o.Deviations {
		codes = append(codes, d.Code)
	}
	return codes
}

// TestPartsAmiss: what is wrong with parts is told, by name.
func TestPartsAmiss(t *testing.T) {
	zeros := fmt.Sprintf("SHA1(d.img.000000000)= %040d\nSHA256(d.img.000000001)= %064d", 0, 0)
	sums := fmt.Sprintf("SHA256(d.img.000000000)= %064d\nSHA256(d.img.000000001)= %064d", 0, 0)
	type pieces map[string]int
	for says, c := range map[string]struct {
		size, part int
		have       pieces
		manifest   string
	}{
		"package.file-missing: d.img comes in parts, and d.img.000000001 is not": {20, 8, pieces{"0": 8, "2": 4},
			sums},
		"package.file-missing: d.img comes in parts, and d.img.000000000 is not": {20, 8, nil, ""},

		"package.truncated: d.img.000000000 should have 8 bytes and has 7": {20, 8, pieces{"0": 7, "1": 8, "2": 4}, ""},
		"package.truncated: d.img.000000002 should have 4 bytes and has 8": {20, 8, pieces{"0": 8, "1": 8, "2": 8}, ""},

		"package.too-large: d.img comes in 2000000000 parts":             {2_000_000_000, 1, nil, ""},
		"package.too-large: d.img comes in 4611686018427387904 parts":    {math.MaxInt, 2, nil, ""},
		"package.file-unused: No part of the descriptor names d.img.000": {8, 8, pieces{"0": 8, "1": 8}, ""},
		"manifest.incomplete: The manifest does not name d.img":          {16, 8, pieces{"0": 8, "1": 8}, zeros},
	} {
		s := ovf.Skeleton{Name: "x", Kind: "folder", DescriptorName: "x.ovf", Descriptor: parted(c.size, c.part),
			ManifestName: "x.mf", Manifest: c.manifest, Entries: []ovf.Entry{{Name: "x.ovf"}, {Name: "x.mf"}}}
		for n, size := range c.have {
			s.Entries = append(s.Entries, ovf.Entry{Name: "d.img.00000000" + n, Size: int64(size)})
		}
		p, err := s.Open()
		require.NoError(t, err)
		var all []string
		for _, d := range p.Deviations {
			all = append(all, d.Code+": "+d.Message)
		}
		require.Contains(t, strings.Join(all, "\n"), says)
		for _, one := range all { // each part that is amiss is told of with its file, and not again
			require.False(t, strings.HasPrefix(says, "package.file-missing") && one != all[0] &&
				strings.HasPrefix(one, "package."), all)
		}
	}
	whole, err := (&ovf.Skeleton{DescriptorName: "x.ovf", Descriptor: parted(9, -8),
		Entries: []ovf.Entry{{Name: "x.ovf"}, {Name: "d.img", Size: 9}}}).Open()
	require.NoError(t, err)
	e, ok := whole.Entry("d.img")
	require.True(t, ok)
	require.Empty(t, e.Parts)
	_, err = ovf.OpenFolders(disk.OS, []string{t.TempDir()})
	require.ErrorContains(t, err, "there is no descriptor")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.ovf"), []byte(parted(9, 8)), 0o600))
	_, err = ovf.OpenFolders(disk.OS, []string{dir, dir})
	require.ErrorContains(t, err, "it is in "+dir)
}
