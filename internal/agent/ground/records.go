package ground

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	bolt "go.etcd.io/bbolt"
	berrors "go.etcd.io/bbolt/errors"
)

// Records keep what must survive the agent: register, tasks, journals, the
// newest epoch of each job, pool ids, trust, what packages were found to be like.
type Records struct {
	db *bolt.DB

	mu     sync.Mutex
	listed map[string]Registered // the register, as in the database
	self   string                // this agent's id, once it was asked for
	unvora string                // id of the Unvora that it belongs to, once it was asked for
}

var buckets = []string{"register", "tasks", "journals", "epochs", "pools", "trust", "switches", "vouched", "formats",
	"boot"}

// Registered is a machine that the host lists.
type Registered struct {
	Running bool      `json:"running"`
	Since   time.Time `json:"since"`
}

// Self is an id of this agent's, made when it is first asked for.
func (s *Records) Self() (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.self != "" {
		return s.self, nil
	}
	if there, err := s.Get("trust", "self", &s.self); there || err != nil {
		return s.self, err
	}
	id := uuid.NewString()
	if err := s.Put("trust", "self", id); err != nil {
		return "", err
	}
	s.self = id
	return id, nil
}

// Unvora is the id of the one that this agent belongs to; "" until a service of it has said so.
func (s *Records) Unvora() (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.unvora == "" {
		if _, err := s.Get("trust", "unvora", &s.unvora); err != nil {
			return "", err
		}
	}
	return s.unvora, nil
}

// SetUnvora notes the id of the Unvora that this agent belongs to.
func (s *Records) SetUnvora(id string) error {
	if was, err := s.Unvora(); was == id || err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.Put("trust", "unvora", id); err != nil {
		return err
	}
	s.unvora = id
	return nil
}

// Trust is the agent's certificates, and the authority that it was added by.
type Trust struct {
	Key, SelfCert           string
	Cert, Authority, HostID string
}

// OpenRecords opens the records, or makes them.
func OpenRecords(path string, log *slog.Logger) (*Records, error) {
	db, err := bolt.Open(path, 0o600, &bolt.Options{Timeout: 2 * time.Second})
	if errors.Is(err, berrors.ErrTimeout) {
		return nil, fmt.Errorf("the agent's records in %s are in use: another agent runs with them", path)
	}
	if err != nil {
		return nil, fmt.Errorf("the agent's records in %s: %w", path, err)
	}
	err = db.Update(func(tx *bolt.Tx) error {
		for _, b := range buckets {
			if _, err := tx.CreateBucketIfNotExists([]byte(b)); err != nil {
				return err
			}
		}
		return nil
	})
	s := &Records{db: db}
	if err == nil {
		s.listed, err = Each(s, "register", func(folder string, err error) Registered {
			log.Error("when it was listed is not known any more", "folder", folder, "error", err)
			return Registered{}
		})
	}
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return s, nil
}

// Close ends the use of the records.
func (s *Records) Close() error { return s.db.Close() }

// Put writes a record.
func (s *Records) Put(bucket, key string, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return s.db.Update(func(tx *bolt.Tx) error { return tx.Bucket([]byte(bucket)).Put([]byte(key), raw) })
}

// Get reads a record, and reports whether the key was there.
func (s *Records) Get(bucket, key string, value any) (bool, error) {
	var raw []byte
	err := s.db.View(func(tx *bolt.Tx) error {
		raw = append(raw, tx.Bucket([]byte(bucket)).Get([]byte(key))...)
		return nil
	})
	if err != nil || raw == nil {
		return false, err
	}
	return true, json.Unmarshal(raw, value)
}

// Drop takes a record away.
func (s *Records) Drop(bucket, key string) error {
	return s.db.Update(func(tx *bolt.Tx) error { return tx.Bucket([]byte(bucket)).Delete([]byte(key)) })
}

// Each reads a whole bucket. bad says what to take for a record that can't be
// decoded.
func Each[T any](s *Records, bucket string, bad func(key string, err error) T) (map[string]T, error) {
	all := map[string]T{}
	return all, s.db.View(func(tx *bolt.Tx) error {
		return tx.Bucket([]byte(bucket)).ForEach(func(k, v []byte) error {
			var t T
			if err := json.Unmarshal(v, &t); err != nil {
				t = bad(string(k), fmt.Errorf("the agent's record of it in %s can't be read: %w", bucket, err))
			}
			all[string(k)] = t
			return nil
		})
	})
}

// Register is what the host lists; it is asked for at every survey.
func (s *Records) Register() map[string]Registered {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.listed)
}

// Listed is what the host's list says of one machine folder; false when it is not on it.
func (s *Records) Listed(folder string) (Registered, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r, there := s.listed[folder]
	return r, there
}

// list puts a machine folder on the list of the host.
func (s *Records) list(folder string, r Registered) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.listed[folder] = r
	return s.Put("register", folder, r)
}

// Relist changes what the list of the host says of a machine folder. One that is not on it stays off it.
func (s *Records) Relist(folder string, r Registered) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, there := s.listed[folder]; !there {
		return nil
	}
	s.listed[folder] = r
	return s.Put("register", folder, r)
}

// delist takes a machine folder off the list of the host.
func (s *Records) delist(folder string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.listed, folder)
	return s.Drop("register", folder)
}

// FirstRegister lists the machines that the host has when its agent is new.
func (s *Records) FirstRegister(machines []MachineConfig) error {
	t, err := s.Trust()
	if err != nil || t.Key != "" {
		return err
	}
	for _, m := range machines {
		if err := s.list(m.Folder, Registered{Running: m.Running, Since: time.Now()}); err != nil {
			return err
		}
	}
	return nil
}

// Trust reads the certificates.
func (s *Records) Trust() (t Trust, err error) {
	_, err = s.Get("trust", "trust", &t)
	return t, err
}

// SetTrust writes the certificates.
func (s *Records) SetTrust(t Trust) error { return s.Put("trust", "trust", t) }

// Jobs are those that a note is kept of: their owner has not said yet that they are over.
func (s *Records) Jobs() (ids []string, err error) {
	all, err := Each(s, "epochs", func(string, error) int64 { return 0 })
	return slices.Collect(maps.Keys(all)), err
}

// Epoch raises the newest epoch of a job, or refuses an older one.
func (s *Records) Epoch(job string, epoch int64) (ok bool, err error) {
	var newest int64
	if _, err := s.Get("epochs", job, &newest); err != nil {
		return false, err
	}
	switch {
	case epoch < newest:
		return false, nil
	case epoch == newest:
		return true, nil
	}
	return true, s.Put("epochs", job, epoch)
}
