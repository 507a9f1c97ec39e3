package cimi_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/cimi/standin"
	"unvora.example/unvora/internal/cimi/standintest"
	"unvora.example/unvora/internal/wait"
)

func client(t *testing.T, address, cert string, a cimi.Account) (*cimi.Client, *cimi.EntryPoint) {
	t.Helper()
	c, err := cimi.New("https://"+address+"/cimi", a, cert)
	require.NoError(t, err)
	e, version, err := c.EntryPoint(t.Context())
	require.NoError(t, err)
	require.Equal(t, "2.0.0", version)
	return c, e
}

var admin = cimi.Account{Name: "skerrow", Password: "low tide"}

// TestResources: lists page by page, and operations as the account and the state
// of a machine allow them.
func TestResources(t *testing.T) {
	_, address, cert := standintest.Serve(t, func(s *standin.State) {
		for i := range 450 { // more than a page or two
			s.Networks = append(s.Networks, standin.Network{Name: fmt.Sprint("n", i), VLAN: i})
		}
	})
	c, e := client(t, address, cert, admin)
	networks, _, err := cimi.List[cimi.Network](t.Context(), c, e.Networks, "")
	require.NoError(t, err)
	require.Len(t, networks, 451)
	require.Equal(t, "n449", networks[450].Name)
	machines, own, err := cimi.List[cimi.Machine](t.Context(), c, e.Machines, "volumes,networkInterfaces")
	require.NoError(t, err)
	require.NotEmpty(t, own.Can(cimi.RelAdd))
	require.Len(t, machines, 4)
	require.Equal(t, "dunlin", machines[0].Properties["host"])
	require.Equal(t, "/cimi/volumes/vm1", machines[0].Volumes.Members[0].Volume.Href)
	require.Equal(t, "0a:77:00:00:00:01", machines[0].NetworkInterfaces.Members[0].MACAddress)
	for i, can := range []bool{true, true, true, false} { // the last runs on knot
		require.Equal(t, can, machines[i].Can(cimi.RelCapture) != "", machines[i].Name)
		require.Equal(t, i%2 == 0, machines[i].Can(cimi.RelStart) != "")
		require.Equal(t, i%2 == 1, machines[i].Can(cimi.RelStop) != "")
	}
	require.NoError(t, c.Act(t.Context(), machines[3].Can(cimi.RelStop), cimi.RelStop))
	m, err := cimi.Get[cimi.Machine](t.Context(), c, machines[3].ID)
	require.NoError(t, err)
	require.Equal(t, cimi.Stopped, m.State)

	r, e := client(t, address, cert, cimi.Account{Name: "visitor", Password: "x"})
	machines, own, err = cimi.List[cimi.Machine](t.Context(), r, e.Machines, "")
	require.NoError(t, err)
	require.Empty(t, own.Can(cimi.RelAdd))
	require.Empty(t, machines[0].Operations)
	var refused *cimi.Refused
	require.ErrorAs(t, r.Act(t.Context(), "/cimi/machines/m1", cimi.RelStart), &refused)
	require.Equal(t, http.StatusForbidden, refused.Status)
}

// TestRefusals tells apart what can be wrong with address, certificate and account.
func TestRefusals(t *testing.T) {
	_, address, cert := standintest.Serve(t, func(s *standin.State) { s.Version = "1.1.0" })
	for _, wrong := range []string{"http://" + address, "mainland", "https://", "ftp://x/y", ":"} {
		_, err := cimi.New(wrong, admin, "")
		require.ErrorContains(t, err, "is no address of a manager", wrong)
	}
	_, err := cimi.New("https://"+address+"/cimi", admin, "no certificate")
	require.ErrorContains(t, err, "certificate can't be read")
	for name, c := range map[string]struct {
		account cimi.Account
		cert    string
		says    string
	}{
		"unknown certificate": {admin, "", "certificate"},
		"wrong password": {cimi.Account{Name: "skerrow", Password: "high tide"}, cert,
			"account or its password is wrong"},
		"token": {cimi.Account{Token: "t"}, cert, "account or its password is wrong"},
	} {
		k, err := cimi.New("https://"+address+"/cimi", c.account, c.cert)
		require.NoError(t, err)
		_, _, err = k.EntryPoint(t.Context())
		require.ErrorContains(t, err, c.says, name)
	}
	_, other, otherCert := standintest.Serve(t, nil)
	k, err := cimi.New("https://"+address+"/cimi", admin, otherCert)
	require.NoError(t, err)
	_, _, err = k.EntryPoint(t.Context())
	require.ErrorIs(t, err, cimi.ErrAway)
	require.ErrorContains(t, err, "not the one that was accepted: sha256:")
	k, err = cimi.New("https://"+address+"/cimi", admin, cert)
	require.NoError(t, err)
	_, version, err := k.EntryPoint(t.Context())
	require.NoError(t, err)
	require.False(t, cimi.NewEnough(version))
	require.True(t, cimi.NewEnough("2.0.1"))
	require.False(t, cimi.NewEnough("x"))
	_, err = cimi.Get[cimi.Machine](t.Context(), k, "https://"+other+"/cimi/machines/m1")
	require.ErrorContains(t, err, "another server: the account is not told to it")
	_, err = cimi.Get[cimi.Machine](t.Context(), k, "/cimi/machines/none")
	require.ErrorContains(t, err, "there is no machine none")
	require.NoError(t, k.Delete(t.Context(), "/cimi/nothing/here"), "gone already")
}

// fetch reads what an image's location gives, as the image file that it is.
func fetch(t *testing.T, href, cert string) []byte {
	t.Helper()
	config, err := cimi.TLS(cert)
	require.NoError(t, err)
	res, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: config}}).Get(href)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return raw
}

func captured(t *testing.T, c *cimi.Client, e *cimi.EntryPoint, volume, since string) *cimi.VolumeImage {
	t.Helper()
	want := cimi.VolumeImage{ImageLocation: &cimi.Ref{Href: volume}}
	if since != "" {
		want.Kind, want.RelatedImage = cimi.PartialSnapshot, &cimi.Ref{Href: since}
	}
	i, err := cimi.Add[cimi.VolumeImage](t.Context(), c, e.VolumeImages.Href, want)
	require.NoError(t, err)
	wait.Until(t, func() bool {
		i, err = cimi.Get[cimi.VolumeImage](t.Context(), c, i.ID)
		return err == nil && i.State == cimi.Available
	})
	return i
}

// TestImages: a whole image, then one of what a running guest has written since;
// put onto each other they are the volume.
func TestImages(t *testing.T) {
	dir, address, cert := standintest.Serve(t, nil)
	c, e := client(t, address, cert, admin)
	whole := captured(t, c, e, "/cimi/volumes/vm2", "")
	raw := fetch(t, whole.ImageLocation.Href, cert)
	truth, err := os.ReadFile(standin.VolumePath(dir, "vm2"))
	require.NoError(t, err)
	base := filepath.Join(t.TempDir(), whole.ID[len("/cimi/volumeImages/"):]+".qcow2")
	require.NoError(t, os.WriteFile(base, raw, 0o644))
	same := func(path string, truth []byte) {
		t.Helper()
		img, err := formats.OpenChain(path, formats.Options{})
		require.NoError(t, err)
		defer img.Close()
		disktest.Same(t, truth, img)
	}
	same(base, truth)

	change := captured(t, c, e, "/cimi/volumes/vm2", whole.ID)
	layer := fetch(t, change.ImageLocation.Href, cert)
	require.Less(t, len(layer), 2<<20, "one mebibyte was written since")
	now, err := os.ReadFile(standin.VolumePath(dir, "vm2"))
	require.NoError(t, err)
	require.False(t, bytes.Equal(truth, now))
	at := filepath.Join(filepath.Dir(base), "layer.qcow2")
	require.NoError(t, os.WriteFile(at, layer, 0o644))
	same(at, now)

	require.NoError(t, c.Delete(t.Context(), whole.ID))
	_, err = cimi.Add[cimi.VolumeImage](t.Context(), c, e.VolumeImages.Href,
		cimi.VolumeImage{ImageLocation: &cimi.Ref{Href: "/cimi/volumes/vm2"}, RelatedImage: &cimi.Ref{Href: whole.ID}})
	require.ErrorContains(t, err, "to tell the difference from")
	_, err = cimi.Add[cimi.VolumeImage](t.Context(), c, e.VolumeImages.Href,
		cimi.VolumeImage{ImageLocation: &cimi.Ref{Href: "/cimi/volumes/vm4"}})
	require.ErrorContains(t, err, "stopped machines only")
	left, err := os.ReadDir(filepath.Join(dir, "images"))
	require.NoError(t, err)
	require.Len(t, left, 2)
}

// TestPutThere brings an image, makes a volume of it and a machine of that.
func TestPutThere(t *testing.T) {
	dir, address, cert := standintest.Serve(t, nil)
	c, e := client(t, address, cert, admin)
	truth := disktest.Pattern(3<<20, 9)
	room, err := cimi.Add[cimi.VolumeImage](t.Context(), c, e.VolumeImages.Href,
		cimi.VolumeImage{Common: cimi.Common{Name: "x",
			Properties: map[string]string{"bytes": fmt.Sprint(len(truth))}}})
	require.NoError(t, err)
	at, err := c.Absolute(room.Can(cimi.RelUpload))
	require.NoError(t, err)
	config, err := cimi.TLS(cert)
	require.NoError(t, err)
	web := &http.Client{Transport: &http.Transport{TLSClientConfig: config}}
	digest := cimi.ContentDigest(truth)
	send := func(method, head, value string, body []byte) int {
		req, err := http.NewRequest(method, at, bytes.NewReader(body))
		require.NoError(t, err)
		req.Header.Set(head, value)
		req.Header.Set("Content-Digest", digest)
		res, err := web.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		return res.StatusCode
	}
	require.Equal(t, http.StatusBadRequest, send(http.MethodPut, "Content-Range", "bytes x", truth))
	require.Equal(t, http.StatusBadRequest, send(http.MethodPut, "Content-Range",
		fmt.Sprintf("bytes 0-9/%d", len(truth)+1), truth))
	digest = cimi.ContentDigest(truth[1:])
	require.Equal(t, http.StatusBadRequest, send(http.MethodPut, "Content-Range",
		fmt.Sprintf("bytes 0-%d/%d", len(truth)-1, len(truth)), truth), "a piece that is not what it is said to be")
	digest = cimi.ContentDigest(truth)
	require.Equal(t, http.StatusNoContent, send(http.MethodPut, "Content-Range",
		fmt.Sprintf("bytes 0-%d/%d", len(truth)-1, len(truth)), truth))
	require.Equal(t, http.StatusBadRequest, send(http.MethodPost, "Repr-Digest", "crc32c=:AAAA:", nil))
	whole := cimi.NewWhole()
	whole.Write(truth)
	require.Equal(t, http.StatusNoContent, send(http.MethodPost, "Repr-Digest", whole.Digest(), nil))

	v := cimi.VolumeCreate{Common: cimi.Common{Name: "x"}}
	v.VolumeTemplate.VolumeImage.Href = room.ID
	volume, err := cimi.Add[cimi.Volume](t.Context(), c, e.Volumes.Href, v)
	require.NoError(t, err)
	m := cimi.MachineCreate{Common: cimi.Common{Name: "x", Properties: map[string]string{"host": "knot", "uuid": "u"}}}
	m.MachineTemplate.Volumes = []cimi.MachineVolume{{Volume: cimi.Ref{Href: volume.ID}}}
	m.MachineTemplate.NetworkInterfaces = []cimi.NetworkInterface{{Network: cimi.Ref{Href: "/cimi/networks/laboratory"},
		MACAddress: "02:5c:01:00:00:01"}}
	made, err := cimi.Add[cimi.Machine](t.Context(), c, e.Machines.Href, m)
	require.NoError(t, err)
	require.Equal(t, "knot", made.Properties["host"])
	_, err = cimi.Add[cimi.Machine](t.Context(), c, e.Machines.Href, m)
	require.ErrorContains(t, err, "another machine has it")
	got, err := os.ReadFile(standin.VolumePath(dir, volume.ID[len("/cimi/volumes/"):]))
	require.NoError(t, err)
	require.Equal(t, truth, got)
	require.NoError(t, c.Delete(t.Context(), made.ID))
	require.NoError(t, c.Delete(t.Context(), volume.ID))
	require.NoError(t, c.Delete(t.Context(), room.ID))
	left, err := os.ReadDir(filepath.Join(dir, "images"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// TestShown: what a server shows, trusted or not; one that is no server is an error.
func TestShown(t *testing.T) {
	_, address, cert := standintest.Serve(t, nil)
	c, why, err := cimi.Shown(t.Context(), address)
	require.NoError(t, err)
	require.Error(t, why)
	require.Equal(t, cert, cimi.EncodeCertificate(c))
	require.Len(t, cimi.Fingerprint(c), len("sha256:")+64)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			c.Close()
		}
	}()
	_, _, err = cimi.Shown(t.Context(), l.Addr().String())
	require.Error(t, err)
}

// FuzzMachine: whatever a manager answers, it is read or refused, and what was
// read is written and read again as the same.
func FuzzMachine(f *testing.F) {
	f.Add([]byte(`{"resourceURI":"http://schemas.dmtf.org/cimi/2/MachineCollection","id":"m","count":1,
		"machines":[{"id":"1","name":"x","state":"STOPPED","cpu":2,"memory":1,
		"volumes":{"count":1,"volumes":[{"volume":{"href":"v"}}]},"networkInterfaces":{"href":"n"}}],
		"operations":[{"rel":"add","href":"m"}]}`))
	f.Add([]byte(`{"machines":{}}`))
	f.Add([]byte(`{"machines":null,"count":-1}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var c, again cimi.Collection[cimi.Machine]
		if json.Unmarshal(raw, &c) != nil {
			return
		}
		if c.Members == nil {
			return // only where it is
		}
		out, err := json.Marshal(c)
		if err != nil {
			return // a time that JSON has no word for
		}
		require.NoError(t, json.Unmarshal(out, &again))
		require.Equal(t, len(c.Members), len(again.Members))
		c.Can(cimi.RelAdd)
	})
}
