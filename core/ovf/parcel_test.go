package ovf_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

type content struct {
	name string
	data []byte
}

// packageFiles are descriptor, manifest and disk of a small package.
func packageFiles(t *testing.T) []content {
	d, err := ovf.New(&machine.Machine{Name: "rain-gauge", CPUs: 1, MemoryBytes: 1 << 30,
		Disks: []machine.Disk{{ID: "disk1", File: "disk1.img", Format: "raw", VirtualBytes: 4096, FileBytes: 4096}}})
	require.NoError(t, err)
	raw, err := d.Encode(0)
	require.NoError(t, err)
	image := bytes.Repeat([]byte("tide"), 1024)
	sums := map[string]string{"rain-gauge.ovf": fmt.Sprintf("%x", sha256.Sum256(raw)),
		"disk1.img": fmt.Sprintf("%x", sha256.Sum256(image))}
	return []content{{"rain-gauge.ovf", raw}, {"rain-gauge.mf", ovf.EncodeManifest(ovf.SHA256, sums)},
		{"disk1.img", image}}
}

func asTar(t *testing.T, dir string, files []content) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: dir + f.name, Size: int64(len(f.data)), Mode: 0o644,
			Format: tar.FormatUSTAR}))
		_, err := w.Write(f.data)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func asZip(t *testing.T, method uint16, files []content) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		e, err := w.CreateHeader(&zip.FileHeader{Name: f.name, Method: method})
		require.NoError(t, err)
		_, err = e.Write(f.data)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func gzipped(t *testing.T, p []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write(p)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// TestParcels: the same package, however it is wrapped up.
func TestParcels(t *testing.T) {
	files := packageFiles(t)
	ova := asTar(t, "", files)
	inDir := make([]content, len(files))
	for i, f := range files {
		inDir[i] = content{"rain gauge/" + f.name, f.data}
	}
	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	for name, raw := range map[string][]byte{
		"plain.ova": ova, "folder.tar": asTar(t, "./deep/", files), "flat.tar.gz": gzipped(t, ova),
		"folder.tar.gz":  gzipped(t, asTar(t, "rain/", files)),
		"folder.tar.zst": z.EncodeAll(asTar(t, "rain/", files), nil), "folder.zip": asZip(t, zip.Deflate, inDir),
		"flat.zip":   asZip(t, zip.Store, files),
		"ova-in.zip": asZip(t, zip.Deflate, []content{{"read me.txt", []byte("x")}, {"x/rain-gauge.ova", ova}}),
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			path := filepath.Join(dir, name)
			require.NoError(t, os.WriteFile(path, raw, 0o644))
			o, err := ovf.OpenPathIn(disk.OS, path, dir)
			require.NoError(t, err)
			require.Equal(t, name != "plain.ova", o.Packed)
			require.NoError(t, o.Verify(t.Context(), nil))
			require.EqualValues(t, "ok", o.ManifestState())
			e, ok := o.Entry("disk1.img")
			require.True(t, ok)
			src, err := o.Source(e)
			require.NoError(t, err)
			got, err := io.ReadAll(io.NewSectionReader(src, 0, src.Size()))
			require.NoError(t, err)
			require.Equal(t, files[2].data, got)
			require.NoError(t, o.Close())
			left, err := os.ReadDir(dir)
			require.NoError(t, err)
			require.Len(t, left, 1, "nothing that was unpacked is left")
		})
	}
}

func TestHostileParcels(t *testing.T) {
	files := packageFiles(t)
	zeros := make([]byte, 16<<20)
	link := func() []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		require.NoError(t, w.WriteHeader(&tar.Header{Name: "x.ovf", Typeflag: tar.TypeSymlink,
			Linkname: "/etc/passwd"}))
		require.NoError(t, w.Close())
		return gzipped(t, b.Bytes())
	}
	bomb := asZip(t, zip.Deflate, append(files[:2:2], content{"disk1.img", zeros}))
	at := bytes.LastIndex(bomb, []byte("PK\x01\x02"))
	copy(bomb[at+24:], []byte{0xff, 0xff, 0xff, 0xfe}) // says that it becomes 4 GiB
	for name, c := range map[string]struct {
		raw        []byte
		code, says string
	}{
		"leaves its folder": {asZip(t, zip.Store, []content{{"../x.ovf", nil}}), "package.path-escape", "leaves"},
		"a link":            {link(), "package.path-escape", "link"},
		"twice":             {asZip(t, zip.Store, append(files, files[2])), "package.entry-repeated", "two entries"},
		"cut short":         {gzipped(t, asTar(t, "", files))[:200], "package.truncated", "cut short"},
		"no package": {asZip(t, zip.Store, []content{{"read me.txt", []byte("x")}}), "package.unknown",
			"no descriptor"},
		"a bomb":            {bomb, "package.bomb", "unpack to far more"},
		"a wrong check sum": {wrongSum(gzipped(t, asTar(t, "", files))), "package.truncated", "damaged"},
		"texts without end": {gzipped(t, asTar(t, "", many(200, ".ovf", 4<<20))), "package.too-large",
			"64 descriptors"},
		"many entries": {gzipped(t, asTar(t, "", many(5000, ".txt", 1))), "package.too-large", "4096 entries"},
		"a large text": {gzipped(t, asTar(t, "", many(1, ".ovf", 20<<20))), "package.too-large", "MiB"},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "x")
			require.NoError(t, os.WriteFile(path, c.raw, 0o644))
			_, err := ovf.OpenPath(path)
			var p *ovf.Problem
			require.ErrorAs(t, err, &p)
			require.Equal(t, c.code, p.Code)
			require.Contains(t, p.Message, c.says)
		})
	}
}

// wrongSum changes the check sum at a gzip file's end (RFC 1952, section 2.3.1).
func wrongSum(raw []byte) []byte {
	raw[len(raw)-8] ^= 1
	return raw
}

// many are files of a size with one ending.
func many(n int, ending string, size int) (list []content) {
	for i := range n {
		list = append(list, content{fmt.Sprint(i, ending), make([]byte, size)})
	}
	return list
}

// TestSparseInZstd: zeros shrink to next to nothing under zstd, and are no bomb.
func TestSparseInZstd(t *testing.T) {
	files := packageFiles(t)
	files[2].data = make([]byte, 64<<20)
	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	raw := z.EncodeAll(asTar(t, "rain/", files), nil)
	require.Less(t, len(raw), 64<<10)
	path := filepath.Join(t.TempDir(), "x.tar.zst")
	require.NoError(t, os.WriteFile(path, raw, 0o644))
	o, err := ovf.OpenPath(path)
	require.NoError(t, err)
	require.NoError(t, o.Close())
}

// TestEncodings: descriptors in UTF-16 are read; what is neither that nor UTF-8 is
// named, and how to convert it.
func TestEncodings(t *testing.T) {
	text := `<?xml version="1.0" encoding="utf-16"?>` + strings.Replace(asking, "Small", "Schärenpegel", 1)
	for name, order := range map[string]binary.ByteOrder{"little": binary.LittleEndian, "big": binary.BigEndian} {
		raw := order.(binary.AppendByteOrder).AppendUint16(nil, 0xFEFF)
		for _, u := range utf16.Encode([]rune(text)) {
			raw = order.(binary.AppendByteOrder).AppendUint16(raw, u)
		}
		d, err := ovf.Parse("x.ovf", raw)
		require.NoError(t, err, name)
		require.Equal(t, "Schärenpegel", d.Options[0].Label)
		again, err := d.Encode(0)
		require.NoError(t, err)
		_, err = ovf.Parse("x.ovf", again)
		require.NoError(t, err, "what is written of it can be read")
	}
	for name, c := range map[string]struct{ raw, says string }{
		"stated":     {`<?xml version="1.0" encoding="ISO-8859-1"?><Envelope/>`, "it is written in ISO-8859-1"},
		"not stated": {strings.Replace(asking, "Small", "Sch\xe4renpegel", 1), "line 5: byte "},
	} {
		_, err := ovf.Parse("x.ovf", []byte(c.raw))
		require.ErrorContains(t, err, c.says, name)
	}
}

// TestManifestSays: what the manifest leaves out is told, and what it names beside.
func TestManifestSays(t *testing.T) {
	k := ovf.Skeleton{Name: "x", Kind: "ova", DescriptorName: "x.ovf", ManifestName: "x.mf",
		Manifest: "SHA256(gone.txt)= " + strings.Repeat("ab", 32),
		Descriptor: `<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"
		  xmlns:o="http://schemas.dmtf.org/ovf/envelope/1"><References><File o:id="f" o:href="d.img"/></References>
		    <VirtualSystem o:id="x"><Name>x</Name><VirtualHardwareSection><Info/></VirtualHardwareSection>
		    </VirtualSystem>
		      </Envelope>`,
		Entries: []ovf.Entry{{Name: "x.ovf"}, {Name: "x.mf"}, {Name: "d.img", Size: 512}}}
	p, err := k.Open()
	require.NoError(t, err)
	var codes []string
	for _, d := range p.Deviations {
		codes = append(codes, d.Code+" "+d.Subject)
	}
	require.ElementsMatch(t, []string{"manifest.incomplete d.img", "package.file-missing gone.txt"}, codes)
}

// TestSigned: a certificate file as the standard has it.
func TestSigned(t *testing.T) {
	files := packageFiles(t)
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1),
		Subject: pkix.Name{CommonName: "Skerrow Coastal Observatory"}, NotBefore: time.Unix(1_700_000_000, 0),
		NotAfter: time.Unix(2_000_000_000, 0)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	sum := sha256.Sum256(files[1].data)
	signature, err := rsa.SignPKCS1v15(rand.Reader, key, crypto.SHA256, sum[:])
	require.NoError(t, err)
	cert := fmt.Sprintf("SHA256(rain-gauge.mf)= %x\n%s", signature,
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	deviations := func(cert string) []ovf.Deviation {
		path := filepath.Join(t.TempDir(), "x.ova")
		require.NoError(t, os.WriteFile(path, asTar(t, "", append(files[:3:3],
			content{"rain-gauge.cert", []byte(cert)})),
			0o644))
		o, err := ovf.OpenPath(path)
		require.NoError(t, err)
		defer o.Close()
		return o.Deviations
	}
	d := deviations(cert)
	require.Len(t, d, 1)
	require.Equal(t, "certificate.untrusted", d[0].Code)
	require.Contains(t, d[0].Message, "Skerrow Coastal Observatory")
	for _, bad := range []string{strings.Replace(cert, "= ", "= 00", 1), "SHA256(x)= 00", "nothing",
		strings.Split(cert, "-----BEGIN")[0]} {
		require.Equal(t, "certificate.invalid", deviations(bad)[0].Code)
	}
}

// signedBy is a certificate and its key, in PEM.
func signedBy(t *testing.T, key crypto.Signer) (certificate, private []byte) {
	t.Helper()
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Skerrow"},
		NotBefore: time.Unix(1_700_000_000, 0), NotAfter: time.Unix(2_000_000_000, 0)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})
}

// TestSign: what is signed here verifies, here and with openssl; keys that don't fit, or can't sign, are refused.
func TestSign(t *testing.T) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	curve, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	_, edwards, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	manifest := []byte("SHA256(rain-gauge.ovf)= 00\n")
	for name, key := range map[string]crypto.Signer{"RSA": rsaKey, "ECDSA": curve} {
		certificate, private := signedBy(t, key)
		s, err := ovf.NewSigningKey(rand.Reader, certificate, private)
		require.NoError(t, err, name)
		for _, algorithm := range []string{"sha1", "sha256", "sha512"} {
			file, err := s.Sign("rain-gauge.mf", algorithm, manifest)
			require.NoError(t, err)
			whose, err := ovf.Signer(file, manifest)
			require.NoError(t, err)
			require.Equal(t, "Skerrow", whose.Subject.CommonName)
			_, err = ovf.Signer(file, append(manifest, ' '))
			require.ErrorContains(t, err, "does not verify")

			head := strings.ToUpper(algorithm) + "(rain-gauge.mf)= "
			line, rest, ok := strings.Cut(string(file), "\n")
			require.True(t, ok && strings.HasPrefix(line, head), line)
			signature, err := hex.DecodeString(strings.TrimPrefix(line, head))
			require.NoError(t, err)
			dir := t.TempDir()
			for file, data := range map[string][]byte{"cert": []byte(rest), "signature": signature, "mf": manifest} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, file), data, 0o600))
			}
			out, err := exec.Command("sh", "-c", "cd "+dir+" && openssl x509 -in cert -pubkey -noout > public && "+
				"openssl dgst -"+algorithm+" -verify public -signature signature mf").CombinedOutput()
			require.NoError(t, err, "%s\nopenssl is in Debian's package openssl: make setup", out)
			require.Contains(t, string(out), "Verified OK")
		}
	}
	certificate, private := signedBy(t, rsaKey)
	_, other := signedBy(t, curve)
	edCertificate, edPrivate := signedBy(t, edwards)
	for says, pair := range map[string][2][]byte{
		"private key type does not match": {certificate, other},
		"failed to find any PEM data":     {certificate, []byte("nothing")},
		"Ed25519":                         {edCertificate, edPrivate},
		"the key is encrypted": {certificate, bytes.ReplaceAll(private, []byte("PRIVATE"),
			[]byte("ENCRYPTED PRIVATE"))},
	} {
		_, err := ovf.NewSigningKey(rand.Reader, pair[0], pair[1])
		require.ErrorContains(t, err, says)
	}
}

const asking = `<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
    xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
<References/><DeploymentOptionSection><Info>sizes</Info>
<Configuration ovf:id="small"><Label>Small</Label></Configuration><Configuration ovf:id="large" ovf:default="true">
  <Label>Large</Label></Configuration></DeploymentOptionSection>
<VirtualSystemCollection ovf:id="station"><Info>two</Info><EulaSection><Info/><License>Be kind to gulls.</License>
  </EulaSection>
<VirtualSystem ovf:id="wind-web"><Info/><Name>wind-web</Name>
<ProductSection ovf:class="net"><Info/><Property ovf:key="address" ovf:type="string" ovf:userConfigurable="true">
  <Label>Its address</Label></Property><Property ovf:key="on" ovf:type="boolean" ovf:userConfigurable="true"/>
    </ProductSection>
<VirtualHardwareSection><Info/>
<Item ovf:configuration="small"><rasd:InstanceID>1</rasd:InstanceID><rasd:ResourceType>3</rasd:ResourceType>
  <rasd:VirtualQuantity>2</rasd:VirtualQuantity></Item>
<Item ovf:configuration="large"><rasd:InstanceID>1</rasd:InstanceID><rasd:ResourceType>3</rasd:ResourceType>
  <rasd:VirtualQuantity>8</rasd:VirtualQuantity></Item>
<Item><rasd:AllocationUnits>byte * 2^20</rasd:AllocationUnits><rasd:InstanceID>2</rasd:InstanceID>
  <rasd:ResourceType>4</rasd:ResourceType><rasd:VirtualQuantity>512</rasd:VirtualQuantity></Item>
<Item ovf:required="true"><rasd:ElementName>Tape</rasd:ElementName><rasd:InstanceID>3</rasd:InstanceID>
  <rasd:ResourceType>18</rasd:ResourceType></Item>
</VirtualHardwareSection></VirtualSystem>
<VirtualSystem ovf:id="wind-db"><Info/><Name>wind-db</Name><VirtualHardwareSection><Info/></VirtualHardwareSection>
  </VirtualSystem>
</VirtualSystemCollection></Envelope>`

// TestAsking: what a descriptor asks of its user, and what one machine of it is.
func TestAsking(t *testing.T) {
	d, err := ovf.Parse("x.ovf", []byte(asking))
	require.NoError(t, err)
	notes := map[string]string{}
	for _, n := range d.Notes {
		notes[n.Code] = n.Subject + "|" + n.Message
	}
	require.Equal(t, map[string]string{
		"descriptor.eula":               "station|Be kind to gulls.",
		"descriptor.property-missing":   "net.address|The product property net.address has no value. Its address",
		"descriptor.deployment-options": "large|It offers configurations: small (Small), large (Large).",
		"descriptor.item-required": "Tape|The hardware item Tape (resource type 18) is marked as required, and no " +
			"host can give it.",
	}, notes)
	require.Len(t, d.Machines, 2)
	require.Equal(t, 8, d.Machines[0].CPUs)
	require.NoError(t, d.Choose("small"))
	require.Equal(t, 2, d.Machines[0].CPUs)
	require.Error(t, d.Choose("huge"))
	m := d.Machines[0].Clone()
	m.Name, m.Properties = "wind", []string{"net.address=192.0.2.7"}
	require.NoError(t, d.Only(0))
	require.NoError(t, d.SetMachine(0, m))
	raw, err := d.Encode(0)
	require.NoError(t, err)
	again, err := ovf.Parse("x.ovf", raw)
	require.NoError(t, err)
	require.Len(t, again.Machines, 1)
	require.Empty(t, again.Options)
	require.Equal(t, 2, again.Machines[0].CPUs)
	require.Equal(t, m.Properties, again.Machines[0].Properties)
	require.Error(t, again.Only(1))

	odd, err := ovf.Parse("x.ovf", []byte(strings.ReplaceAll(asking, "dmtf.org/ovf/envelope/1",
		"dmtf.org/ovf/envelope/9")))
	require.NoError(t, err)
	require.Equal(t, "descriptor.version", odd.Notes[0].Code)
	require.Len(t, odd.Machines, 2)
}

// FuzzParcel opens archives around packages: with links, devices and sparse members,
// nothing outside of the archive is ever opened, and nothing of them stays.
func FuzzParcel(f *testing.F) {
	descriptor := string(encode(f, tideGauge()))
	seed := func(format tar.Format, headers ...tar.Header) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, h := range append(headers, tar.Header{Name: "x/x.ovf", Size: int64(len(descriptor))}) {
			h.Format, h.Mode = format, 0o644
			require.NoError(f, w.WriteHeader(&h))
			if h.Size > 0 {
				_, err := w.Write([]byte(descriptor)[:h.Size])
				require.NoError(f, err)
			}
		}
		require.NoError(f, w.Close())
		return b.Bytes()
	}
	for _, format := range []tar.Format{tar.FormatUSTAR, tar.FormatPAX, tar.FormatGNU} {
		for _, h := range []tar.Header{
			{Name: "x/disk1.img", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"},
			{Name: "x/disk1.img", Typeflag: tar.TypeLink, Linkname: "../secret"},
			{Name: "x/disk1.img", Typeflag: tar.TypeBlock, Devmajor: 8},
			{Name: "x/disk1.img", Typeflag: tar.TypeChar, Devmajor: 1, Devminor: 3},
			{Name: "x/disk1.img", Typeflag: tar.TypeFifo},
			{Name: "../disk1.img", Size: 16}, {Name: "x/disk1.img", Size: 16},
		} {
			raw := seed(format, h)
			f.Add(raw)
		}
	}
	// A sparse member as GNU tar writes it (PAX 1.0): 16 bytes of data, a TiB of room.
	sparse := seed(tar.FormatPAX, tar.Header{Name: "x/disk1.img", Size: 512,
		PAXRecords: map[string]string{"GNU.sparse.major": "1", "GNU.sparse.minor": "0",
			"GNU.sparse.name":     "x/disk1.img",
			"GNU.sparse.realsize": "1099511627776"}})
	f.Add(sparse)
	f.Fuzz(func(t *testing.T, raw []byte) {
		dir := t.TempDir()
		file := filepath.Join(dir, "x.tar")
		require.NoError(t, os.WriteFile(file, raw, 0o600))
		o, err := ovf.OpenPathIn(only{disk.OS, t, dir}, file, dir)
		if err == nil {
			for _, e := range o.Entries {
				if src, err := o.Source(e); err == nil {
					n, _ := src.ReadAt(make([]byte, 64), 0)
					require.LessOrEqual(t, n, 64)
				}
			}
			require.NoError(t, o.Close())
		}
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Len(t, left, 1, "something stays")
	})
}

// only lets nothing be opened that lies outside of a directory.
type only struct {
	disk.Files
	t   *testing.T
	dir string
}

func (o only) inside(path string) {
	rel, err := filepath.Rel(o.dir, path)
	require.NoError(o.t, err)
	require.True(o.t, filepath.IsLocal(rel), "%s is opened", path)
}

func (o only) OpenFile(path string, flag int, mode fs.FileMode) (*os.File, error) {
	o.inside(path)
	return o.Files.OpenFile(path, flag, mode)
}

func (o only) Stat(path string) (fs.FileInfo, error) {
	o.inside(path)
	return o.Files.Stat(path)
}
