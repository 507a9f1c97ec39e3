package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"sync"
	"time"

	bolt "go.etcd.io/bbolt"
	berrors "go.etcd.io/bbolt/errors"
)

// store keeps what must survive the agent: register, tasks, journals, the
// newest epoch of each job, pool ids, trust, what packages were found to be like.
type store struct {
	db *bolt.DB

	mu     sync.Mutex
	listed map[string]registered // the register, as in the database
}

var buckets = []string{"register", "tasks", "journals", "epochs", "pools", "trust", "switches", "vouched", "formats"}

type registered struct {
	Running bool      `json:"running"`
	Since   time.Time `json:"since"`
}

type trust struct {
	Key, SelfCert           string
	Cert, Authority, HostID string
}

func openStore(path string, log *slog.Logger) (*store, error) {
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
	s := &store{db: db}
	if err == nil {
		s.listed, err = each(s, "register", func(folder string, err error) registered {
			log.Error("when it was listed is not known any more", "folder", folder, "error", err)
			return registered{}
		})
	}
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return s, nil
}

func (s *store) Close() error { return s.db.Close() }

func (s *store) put(bucket, key string, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return s.db.Update(func(tx *bolt.Tx) error { return tx.Bucket([]byte(bucket)).Put([]byte(key), raw) })
}

// get reports whether the key was there.
func (s *store) get(bucket, key string, value any) (bool, error) {
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

func (s *store) drop(bucket, key string) error {
	return s.db.Update(func(tx *bolt.Tx) error { return tx.Bucket([]byte(bucket)).Delete([]byte(key)) })
}

// each reads a whole bucket. bad says what to take for a record that can't be
// decoded.
func each[T any](s *store, bucket string, bad func(key string, err error) T) (map[string]T, error) {
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

// register is what the host lists; it is asked for at every survey.
func (s *store) register() map[string]registered {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.listed)
}

func (s *store) list(folder string, r registered) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.listed[folder] = r
	return s.put("register", folder, r)
}

func (s *store) delist(folder string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.listed, folder)
	return s.drop("register", folder)
}

// firstRegister lists the machines that the host has when its agent is new.
func (s *store) firstRegister(machines []MachineConfig) error {
	t, err := s.trust()
	if err != nil || t.Key != "" {
		return err
	}
	for _, m := range machines {
		if err := s.list(m.Folder, registered{Running: m.Running, Since: time.Now()}); err != nil {
			return err
		}
	}
	return nil
}

func (s *store) trust() (t trust, err error) {
	_, err = s.get("trust", "trust", &t)
	return t, err
}

func (s *store) setTrust(t trust) error { return s.put("trust", "trust", t) }

// epoch raises the newest epoch of a job, or refuses an older one.
func (s *store) epoch(job string, epoch int64) (ok bool, err error) {
	var newest int64
	if _, err := s.get("epochs", job, &newest); err != nil {
		return false, err
	}
	switch {
	case epoch < newest:
		return false, nil
	case epoch == newest:
		return true, nil
	}
	return true, s.put("epochs", job, epoch)
}
