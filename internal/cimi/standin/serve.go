package standin

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"unvora.example/unvora/internal/cimi"
)

const base = "/cimi/"

// Serve listens where the state says, until ctx ends.
func (s *Server) Serve(ctx context.Context) error {
	cert, err := s.certificate()
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", s.state.Listen)
	if err != nil {
		return err
	}
	server := &http.Server{Handler: s.routes(), ReadHeaderTimeout: 10 * time.Second,
		ErrorLog:  slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}}
	go func() {
		<-ctx.Done()
		server.Close()
	}()
	if err := server.ServeTLS(l, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	s.busy.Wait()
	return nil
}

// certificate is signed by itself, made at the first start.
func (s *Server) certificate() (tls.Certificate, error) {
	certFile, keyFile := filepath.Join(s.dir, "cert.pem"), filepath.Join(s.dir, "key.pem")
	if pair, err := tls.LoadX509KeyPair(certFile, keyFile); err == nil {
		return pair, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	serial, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: s.state.Name},
		DNSNames: []string{s.state.Name, "localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(10, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return tls.Certificate{}, err
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return tls.Certificate{}, err
	}
	certPEM, keyPEM := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER})
	if err := errors.Join(os.WriteFile(certFile, certPEM, 0o644), os.WriteFile(keyFile, keyPEM, 0o600)); err != nil {
		return tls.Certificate{}, err
	}
	return tls.X509KeyPair(certPEM, keyPEM)
}

// refusal is an answer of its own status.
type refusal struct {
	status  int
	message string
}

func (r *refusal) Error() string { return r.message }

func refuse(status int, format string, args ...any) error {
	return &refusal{status, fmt.Sprintf(format, args...)}
}

// asked is a request that was let in.
type asked struct {
	*http.Request
	reader bool
}

func (s *Server) routes() http.Handler {
	mux := http.NewServeMux()
	open := func(pattern string, f func(http.ResponseWriter, *http.Request) error) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set(cimi.VersionHead, s.state.Version)
			if err := f(w, r); err != nil {
				status := http.StatusInternalServerError
				var e *refusal
				if errors.As(err, &e) {
					status = e.status
				}
				w.Header().Set("Content-Type", "application/json")
				w.WriteHeader(status)
				_ = json.NewEncoder(w).Encode(map[string]string{"message": err.Error()})
			}
		})
	}
	// handle lets in whom an account is known of, one at a time.
	handle := func(pattern string, changes bool, f func(a asked) (any, error)) {
		open(pattern, func(w http.ResponseWriter, r *http.Request) error {
			name, password, _ := r.BasicAuth()
			acc := find(s.state.Accounts, func(a *Account) bool {
				return a.Name == name && subtle.ConstantTimeCompare([]byte(a.Password), []byte(password)) == 1
			})
			switch {
			case acc == nil:
				w.Header().Set("WWW-Authenticate", `Basic realm="`+s.state.Name+`"`)
				return refuse(http.StatusUnauthorized, "the account or its password is wrong")
			case changes && acc.Reader:
				return refuse(http.StatusForbidden, "the account %s may only look", name)
			}
			s.mu.Lock()
			defer s.mu.Unlock()
			v, err := f(asked{r, acc.Reader})
			if err != nil {
				return err
			}
			w.Header().Set("Content-Type", "application/json")
			if v == nil {
				w.WriteHeader(http.StatusNoContent)
				return nil
			}
			if r.Method == http.MethodPost {
				w.WriteHeader(http.StatusCreated)
			}
			return json.NewEncoder(w).Encode(v)
		})
	}
	handle("GET /cimi", false, s.entryPoint)
	handle("GET /cimi/machines", false, func(a asked) (any, error) {
		return pageOf(a, "Machine", s.state.Machines, func(m *Machine) cimi.Machine {
			return s.tellMachine(m,
				a.reader)
		})
	})
	handle("POST /cimi/machines", true, s.addMachine)
	handle("GET /cimi/machines/{id}", false, func(a asked) (any, error) {
		m := s.machine(a.PathValue("id"))
		if m == nil {
			return nil, refuse(http.StatusNotFound, "there is no machine %s", a.PathValue("id"))
		}
		return s.tellMachine(m, a.reader), nil
	})
	handle("POST /cimi/machines/{id}", true, s.actOnMachine)
	handle("DELETE /cimi/machines/{id}", true, s.deleteMachine)
	handle("GET /cimi/networks", false, func(a asked) (any, error) {
		return pageOf(a, "Network", s.state.Networks, tellNetwork)
	})
	handle("GET /cimi/volumes", false, func(a asked) (any, error) {
		return pageOf(a, "Volume", s.state.Volumes, func(v *Volume) cimi.Volume { return s.tellVolume(v, a.reader) })
	})
	handle("POST /cimi/volumes", true, s.addVolume)
	handle("DELETE /cimi/volumes/{id}", true, s.deleteVolume)
	handle("GET /cimi/volumeImages", false, func(a asked) (any, error) {
		return pageOf(a, "VolumeImage", s.state.Images, func(i *Image) cimi.VolumeImage {
			return s.tellImage(a.Request,
				i)
		})
	})
	handle("POST /cimi/volumeImages", true, s.addImage)
	handle("GET /cimi/volumeImages/{id}", true, func(a asked) (any, error) {
		i := s.image(a.PathValue("id"))
		if i == nil {
			return nil, refuse(http.StatusNotFound, "there is no image %s", a.PathValue("id"))
		}
		return s.tellImage(a.Request, i), nil
	})
	handle("DELETE /cimi/volumeImages/{id}", true, func(a asked) (any, error) {
		return nil,
			s.dropImage(a.PathValue("id"))
	})
	open("GET /cimi/blobs/{id}", s.readImage)
	open("PUT /cimi/blobs/{id}", s.writeImage)
	open("POST /cimi/blobs/{id}", s.writeImage)
	return mux
}

func common(kind, id, name string, operations ...cimi.Operation) cimi.Common {
	return cimi.Common{ResourceURI: cimi.Namespace + kind, ID: id, Name: name, Operations: operations}
}

func (s *Server) entryPoint(asked) (any, error) {
	e := cimi.EntryPoint{Common: common("CloudEntryPoint", base, s.state.Name), BaseURI: base}
	e.Machines, e.Volumes, e.VolumeImages, e.Networks = &cimi.Ref{Href: base + "machines"},
		&cimi.Ref{Href: base + "volumes"}, &cimi.Ref{Href: base + "volumeImages"}, &cimi.Ref{Href: base + "networks"}
	return e, nil
}

// pageOf tells the members from $first to $last (DSP0263, 4.1.6.1), of those that
// a $filter lets through.
func pageOf[S any, T cimi.Member](a asked, kind string, list []S, tell func(*S) T) (any, error) {
	if f := a.URL.Query().Get("$filter"); f != "" {
		key, value, err := cimi.ParseFilter(f)
		if err != nil {
			return nil, refuse(http.StatusBadRequest, "%v", err)
		}
		list = slices.DeleteFunc(slices.Clone(list), func(v S) bool { return tell(&v).Base().Properties[key] != value })
	}
	c := cimi.Collection[T]{Common: common(kind+"Collection", a.URL.Path, ""), Count: len(list), Members: []T{}}
	if !a.reader {
		c.Operations = []cimi.Operation{{Rel: cimi.RelAdd, Href: a.URL.Path}}
	}
	first, last := 1, len(list)
	for key, into := range map[string]*int{"$first": &first, "$last": &last} {
		if v := a.URL.Query().Get(key); v != "" {
			n, err := strconv.Atoi(v)
			if err != nil || n < 1 {
				return nil, refuse(http.StatusBadRequest, "%s=%s: a number from 1 on", key, v)
			}
			*into = n
		}
	}
	for i := first - 1; i < min(last, len(list)); i++ {
		c.Members = append(c.Members, tell(&list[i]))
	}
	return c, nil
}

func (s *Server) tellMachine(m *Machine, reader bool) cimi.Machine {
	at := base + "machines/" + m.ID
	v := cimi.Machine{Common: common("Machine", at, m.Name), State: m.State, CPU: m.CPUs, Memory: m.MemoryKiB,
		CPUArch: "x86_64"}
	v.Properties = map[string]string{"host": m.Host}
	for k, p := range m.Properties {
		v.Properties[k] = p
	}
	v.Updated = &m.Updated
	if !reader {
		action := cimi.RelStart
		if m.State == cimi.Started {
			action = cimi.RelStop
		} else {
			v.Operations = append(v.Operations, cimi.Operation{Rel: cimi.RelDelete, Href: at})
		}
		v.Operations = append(v.Operations, cimi.Operation{Rel: action, Href: at})
		if len(m.Volumes) > 0 && s.handedOut(m.Volumes[0]) {
			v.Operations = append(v.Operations, cimi.Operation{Rel: cimi.RelCapture, Href: at})
		}
	}
	v.Volumes = cimi.Collection[cimi.MachineVolume]{Count: len(m.Volumes), Members: []cimi.MachineVolume{}}
	for _, id := range m.Volumes {
		v.Volumes.Members = append(v.Volumes.Members, cimi.MachineVolume{Volume: cimi.Ref{Href: base + "volumes/" +
			id}})
	}
	v.NetworkInterfaces = cimi.Collection[cimi.NetworkInterface]{Count: len(m.NICs), Members: []cimi.NetworkInterface{}}
	for i, n := range m.NICs {
		v.NetworkInterfaces.Members = append(v.NetworkInterfaces.Members,
			cimi.NetworkInterface{Common: common("NetworkInterface", fmt.Sprint(at, "/networkInterfaces/", i+1),
				fmt.Sprint("NIC ", i+1)), Network: cimi.Ref{Href: base + "networks/" + n.Network}, State: "ACTIVE",
				MACAddress: n.MAC})
	}
	return v
}

func tellNetwork(n *Network) cimi.Network {
	v := cimi.Network{Common: common("Network", base+"networks/"+n.Name, n.Name), State: cimi.Started}
	v.Properties = map[string]string{"vlan": fmt.Sprint(n.VLAN)}
	return v
}

func (s *Server) tellVolume(v *Volume, reader bool) cimi.Volume {
	at := base + "volumes/" + v.ID
	out := cimi.Volume{Common: common("Volume", at, v.Name), State: "AVAILABLE", Capacity: (v.Bytes + 999) / 1000,
		Bootable: v.Bootable}
	out.Properties = v.Properties
	if !reader && s.handedOut(v.ID) {
		out.Operations = []cimi.Operation{{Rel: cimi.RelCapture, Href: base + "volumeImages"}}
	}
	return out
}

func (s *Server) tellImage(r *http.Request, i *Image) cimi.VolumeImage {
	at := base + "volumeImages/" + i.ID
	v := cimi.VolumeImage{Common: common("VolumeImage", at, i.Name, cimi.Operation{Rel: cimi.RelDelete, Href: at}),
		State: i.State}
	v.Properties = i.Properties
	blob := base + "blobs/" + i.ID + "?key=" + i.Key
	if i.Upload && i.State == cimi.Creating {
		v.Operations = append(v.Operations, cimi.Operation{Rel: cimi.RelUpload, Href: blob})
	} else {
		v.ImageLocation = &cimi.Ref{Href: "https://" + r.Host + blob}
	}
	if i.Since != "" {
		v.Kind, v.RelatedImage = cimi.PartialSnapshot, &cimi.Ref{Href: base + "volumeImages/" + i.Since}
	}
	return v
}

func decode[T any](a asked) (*T, error) {
	var v T
	if err := json.NewDecoder(io.LimitReader(a.Body, 1<<20)).Decode(&v); err != nil {
		return nil, refuse(http.StatusBadRequest, "the request can't be read: %v", err)
	}
	return &v, nil
}

func idOf(href string) string { return href[strings.LastIndex(href, "/")+1:] }

func (s *Server) addImage(a asked) (any, error) {
	in, err := decode[cimi.VolumeImage](a)
	if err != nil {
		return nil, err
	}
	if in.ImageLocation == nil { // its bytes will be brought
		size, err := strconv.ParseInt(in.Properties["bytes"], 10, 64)
		if err != nil || size <= 0 {
			return nil, refuse(http.StatusBadRequest, "an image that is brought states its size in the property bytes")
		}
		im := Image{ID: newID(), Name: in.Name, State: cimi.Creating, Key: newID() + newID(), Upload: true, Bytes: size,
			Properties: in.Properties}
		s.state.Images = append(s.state.Images, im)
		return s.tellImage(a.Request, &im), s.save()
	}
	v := s.volume(idOf(in.ImageLocation.Href))
	if v == nil {
		return nil, refuse(http.StatusNotFound, "there is no volume %s", in.ImageLocation.Href)
	}
	if !s.handedOut(v.ID) {
		return nil, refuse(http.StatusConflict, "%s runs, and its host hands out the disks of stopped machines only",
			s.user(v.ID).Name)
	}
	since := ""
	if in.RelatedImage != nil {
		since = idOf(in.RelatedImage.Href)
		if r := s.image(since); r == nil || r.State != cimi.Available {
			return nil, refuse(http.StatusNotFound, "there is no image %s any more to tell the difference from", since)
		}
	}
	im, err := s.capture(v, in.Name, since, in.Properties)
	if err != nil {
		return nil, err
	}
	return s.tellImage(a.Request, im), nil
}

func (s *Server) addVolume(a asked) (any, error) {
	in, err := decode[cimi.VolumeCreate](a)
	if err != nil {
		return nil, err
	}
	im := s.image(idOf(in.VolumeTemplate.VolumeImage.Href))
	if im == nil || im.State != cimi.Available {
		return nil, refuse(http.StatusNotFound, "there is no image %s to make a volume of",
			in.VolumeTemplate.VolumeImage.Href)
	}
	v := Volume{ID: newID(), Name: in.Name, Bytes: im.Bytes, Bootable: in.Properties["bootable"] == "true",
		Properties: in.Properties}
	if err := copyRaw(VolumePath(s.dir, v.ID), s.imagePath(im.ID, ".raw")); err != nil {
		return nil, err
	}
	s.state.Volumes = append(s.state.Volumes, v)
	return s.tellVolume(&v, false), s.save()
}

func (s *Server) deleteVolume(a asked) (any, error) {
	id := a.PathValue("id")
	if m := s.user(id); m != nil {
		return nil, refuse(http.StatusConflict, "%s has the volume", m.Name)
	}
	if v := s.volume(id); v != nil {
		*v = s.state.Volumes[len(s.state.Volumes)-1]
		s.state.Volumes = s.state.Volumes[:len(s.state.Volumes)-1]
		_ = os.Remove(VolumePath(s.dir, id))
	}
	return nil, s.save()
}

func (s *Server) addMachine(a asked) (any, error) {
	in, err := decode[cimi.MachineCreate](a)
	if err != nil {
		return nil, err
	}
	t := in.MachineTemplate
	m := Machine{ID: newID(), Name: in.Name, Host: in.Properties["host"], State: cimi.Stopped,
		CPUs:      t.MachineConfig.CPU,
		MemoryKiB: t.MachineConfig.Memory, Properties: map[string]string{}, Updated: time.Now()}
	if find(s.state.Hosts, func(h *Host) bool { return h.Name == m.Host }) == nil {
		m.Host = s.state.Hosts[0].Name
	}
	for k, v := range in.Properties {
		if k != "host" {
			m.Properties[k] = v
		}
	}
	for _, v := range t.Volumes {
		id := idOf(v.Volume.Href)
		if s.volume(id) == nil || s.user(id) != nil {
			return nil, refuse(http.StatusConflict, "the volume %s is not there, or another machine has it", id)
		}
		m.Volumes = append(m.Volumes, id)
	}
	for _, n := range t.NetworkInterfaces {
		name := idOf(n.Network.Href)
		if find(s.state.Networks, func(x *Network) bool { return x.Name == name }) == nil {
			return nil, refuse(http.StatusBadRequest, "there is no network %q", name)
		}
		m.NICs = append(m.NICs, NIC{name, n.MACAddress})
	}
	s.state.Machines = append(s.state.Machines, m)
	return s.tellMachine(&m, false), s.save()
}

func (s *Server) actOnMachine(a asked) (any, error) {
	in, err := decode[struct{ Action string }](a)
	if err != nil {
		return nil, err
	}
	m := s.machine(a.PathValue("id"))
	if m == nil {
		return nil, refuse(http.StatusNotFound, "there is no machine %s", a.PathValue("id"))
	}
	switch in.Action {
	case cimi.RelStart:
		return nil, s.setState(m, cimi.Started)
	case cimi.RelStop:
		return nil, s.setState(m, cimi.Stopped)
	}
	return nil, refuse(http.StatusBadRequest, "there is no action %s", in.Action)
}

func (s *Server) deleteMachine(a asked) (any, error) {
	m := s.machine(a.PathValue("id"))
	switch {
	case m == nil:
		return nil, refuse(http.StatusNotFound, "there is no machine %s", a.PathValue("id"))
	case m.State == cimi.Started:
		return nil, refuse(http.StatusConflict, "%s runs", m.Name)
	}
	*m = s.state.Machines[len(s.state.Machines)-1]
	s.state.Machines = s.state.Machines[:len(s.state.Machines)-1]
	return nil, s.save()
}

// blob is the image whose key the caller knows.
func (s *Server) blob(r *http.Request) (*Image, error) {
	i := s.image(r.PathValue("id"))
	if i == nil || subtle.ConstantTimeCompare([]byte(i.Key), []byte(r.URL.Query().Get("key"))) != 1 {
		return nil, refuse(http.StatusNotFound, "there is no such image")
	}
	return i, nil
}

func (s *Server) readImage(w http.ResponseWriter, r *http.Request) error {
	s.mu.Lock()
	i, err := s.blob(r)
	ready, id := err == nil && i.State == cimi.Available, r.PathValue("id")
	s.mu.Unlock()
	if err != nil {
		return err
	}
	if !ready {
		return refuse(http.StatusConflict, "the image is not ready yet")
	}
	w.Header().Set("ETag", `"`+id+`"`)
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeFile(w, r, s.imagePath(id, ".qcow2"))
	return nil
}

func (s *Server) writeImage(w http.ResponseWriter, r *http.Request) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	i, err := s.blob(r)
	if err != nil {
		return err
	}
	if i.State == cimi.Available && r.Method == http.MethodPost {
		return nil // said before
	}
	if !i.Upload || i.State != cimi.Creating {
		return refuse(http.StatusConflict, "nothing is to be brought here")
	}
	if r.Method == http.MethodPost {
		err = s.received(i, r.Header.Get("Repr-Digest"))
	} else {
		err = s.receive(i, r.Header.Get("Content-Range"), r.Header.Get("Content-Digest"), r.Body)
	}
	if err != nil {
		return refuse(http.StatusBadRequest, "%v", err)
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
