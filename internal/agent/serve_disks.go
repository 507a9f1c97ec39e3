package agent

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"time"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/sight"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/nbd"
)

// offer is a disk that waits to be read by one host, once.
type offer struct {
	path    string
	still   string            // folder of a machine that must not run while the disk is read; "" for none
	layer   bool              // it is read by itself, without what it stands on
	raw     bool              // it is read as it is, whatever its first bytes say: a guest writes them
	web     *hostlink.WebDisk // instead: an image at a manager
	display string            // instead: the folder of a machine whose display waits
	peer    string            // id of the host, in its certificate
	expires time.Time
}

// changing is why a machine that runs is not read.
const changing = "its disks change while they are read"

const offerLasts = 30 * time.Second

// offerDisk answers a ticket for a machine folder with a name for one disk.
func (a *Agent) offerDisk(w http.ResponseWriter, r *http.Request) error {
	t, err := a.ticket(r)
	if err != nil {
		return err
	}
	var req hostlink.DiskRequest
	if err := read(w, r, &req); err != nil {
		return err
	}
	if t.Web != nil {
		return answer(w, hostlink.Offer{Name: a.offer(offer{web: t.Web, peer: peerName(r.TLS)})})
	}
	m, err := a.sight.ReadMachine(t.Path)
	if err != nil {
		return err
	}
	path := filepath.Clean(req.Path)
	named := func(d machine.Disk) bool { return filepath.Join(t.Path, d.File) == path }
	frozen := func(d machine.Disk) bool { // something of the machine's own lies above it
		layers := a.sight.Layers(filepath.Join(t.Path, d.File))
		return slices.ContainsFunc(layers, func(l sight.Layer) bool { return l.Path == path })
	}
	top := slices.ContainsFunc(m.Disks, named)
	variables := m.Variables != "" && filepath.IsLocal(m.Variables) && filepath.Join(t.Path, m.Variables) == path
	if !top && !variables && !slices.ContainsFunc(m.Disks, frozen) {
		return &hostlink.Fault{Code: hostlink.FaultWrong, Message: "the ticket is for a machine that has no disk at " +
			req.Path}
	}
	still := ""
	if top || variables {
		letGo, err := a.KeepStill(r.Context(), t.Path, changing)
		if err != nil {
			return err
		}
		letGo() // until it is read
		still = t.Path
	}
	return answer(w, hostlink.Offer{Name: a.offer(offer{path: req.Path, still: still, layer: req.Layer, raw: variables,
		peer: peerName(r.TLS)})})
}

// offer lets something wait for a while under a name that nobody can guess.
func (a *Agent) offer(o offer) string {
	a.offers.Range(func(key, v any) bool {
		if time.Now().After(v.(offer).expires) {
			a.offers.Delete(key)
		}
		return true
	})
	o.expires = time.Now().Add(offerLasts)
	name := rand.Text()
	a.offers.Store(name, o)
	return name
}

// serveDescriptor hands out the descriptor of a ticket's machine folder.
func (a *Agent) serveDescriptor(w http.ResponseWriter, r *http.Request) error {
	t, err := a.ticket(r)
	if err != nil {
		return err
	}
	d, err := a.sight.Descriptor(t.Path)
	if err != nil {
		return err
	}
	raw, err := d.Encode(0)
	if err != nil {
		return err
	}
	_, err = w.Write(raw)
	return err
}

// serveDisks speaks NBD on connections that were opened for it, until ctx ends.
func (a *Agent) serveDisks(ctx context.Context) func(*http.Server, *tls.Conn, http.Handler) {
	server := &nbd.Server{Find: a.takeOffer}
	return func(_ *http.Server, conn *tls.Conn, _ http.Handler) {
		if err := server.Serve(ctx, conn); err != nil {
			a.Log.Warn("disk served over NBD", "peer", conn.RemoteAddr(), "error", err)
		}
	}
}

// takeOffer opens the disk behind a name, which is used up by that.
func (a *Agent) takeOffer(ctx context.Context, name string, conn net.Conn) (*nbd.Export, error) {
	v, ok := a.offers.LoadAndDelete(name)
	o, _ := v.(offer)
	secure, encrypted := conn.(*tls.Conn)
	if !ok || o.display != "" || !encrypted || time.Now().After(o.expires) {
		return nil, errors.New("no disk waits under this name: each works once")
	}
	if state := secure.ConnectionState(); peerName(&state) != o.peer {
		return nil, errors.New("this disk is for another host")
	}
	if o.web != nil {
		img, err := a.work.OpenImage(ctx, hostlink.CarryTask{Web: o.web})
		if err != nil {
			return nil, err
		}
		return &nbd.Export{Image: img, Close: func() { img.Close() }}, nil
	}
	open := a.sight.Chain
	if o.raw {
		as, err := door.OnRecord("raw")
		if err != nil {
			return nil, err
		}
		open = func(path string) (*formats.Chain, error) { return a.Door.Chain(path, as) }
	}
	letGo := func() {}
	if o.still != "" {
		var err error
		if letGo, err = a.KeepStill(ctx, o.still, changing); err != nil {
			return nil, err
		}
	}
	c, err := open(o.path)
	if err != nil {
		letGo()
		return nil, err
	}
	e := &nbd.Export{Image: c, Close: func() { c.Close(); letGo() }}
	if e.Layer = o.layer; o.layer {
		e.Image = c.Links[0].Image
	}
	return e, nil
}
