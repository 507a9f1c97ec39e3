package qemu

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// A machine that runs has a directory of its own in the agent's, with these in it.
const (
	specFile      = "start.json" // how it is started
	lockFile      = "lock"       // held by its keeper and by QEMU: the machine runs as long as either is there
	monitorSocket = "monitor"    // of QEMU, for what takes a while
	lookSocket    = "look"       // of QEMU, for what is answered at once, also meanwhile
	consoleSocket = "console"    // of its keeper: what the serial port says, and takes
	endFile       = "end.json"   // how it ended
	askedFile     = "asked"      // somebody asks for its end
)

const (
	wordBytes = 8 << 10 // of what QEMU said on its error output
	sendTime  = time.Second
)

// spec is how a machine is started.
type spec struct {
	Folder string   `json:"folder"`
	Binary string   `json:"binary"`
	Args   []string `json:"args"`
	Files  int      `json:"files"` // how many descriptors QEMU is given, from firstFD on

	LogBytes    int   `json:"logBytes"` // of one part of the log; two are kept
	MemoryBytes int64 `json:"memoryBytes"`
	Account     int   `json:"account"` // that it runs under; 0 for the keeper's own
}

// end is how a machine ended.
type end struct {
	At    time.Time `json:"at"`
	How   string    `json:"how"`   // "exit status 1", "signal: killed"; "" for an end without fault
	Words string    `json:"words"` // the last that QEMU said of it
	Asked bool      `json:"asked"`
}

// Keep runs one machine, from the directory that its agent made for it, until it ends. It is a process of its own, so
// that the machine, and the log of its serial port, go on when the agent does not.
func Keep(dir string) error {
	if err := os.Chdir(dir); err != nil { // addresses of sockets are short then
		return err
	}
	raw, err := os.ReadFile(specFile)
	if err != nil {
		return err
	}
	var s spec
	if err := json.Unmarshal(raw, &s); err != nil {
		return fmt.Errorf("%s: %w", filepath.Join(dir, specFile), err)
	}
	lock, err := hold(lockFile)
	if err != nil {
		return err
	}
	k := &keeper{listeners: map[net.Conn]bool{}, most: int64(s.LogBytes)}
	if err := k.open(); err != nil {
		return err
	}
	ended := k.run(s, lock)
	raw, err = json.Marshal(ended)
	if err == nil {
		err = os.WriteFile(endFile+".new", raw, 0o600)
	}
	if err == nil {
		err = os.Rename(endFile+".new", endFile)
	}
	k.close() // whoever listens looks for the end then
	return err
}

// hold takes the lock of a machine. Somebody may be looking at it just now.
func hold(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	for n := 0; ; n++ {
		err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		if err == nil {
			return f, nil
		}
		if n == 100 {
			f.Close()
			return nil, fmt.Errorf("the machine runs already: %w", err)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// keeper keeps what a machine says on its serial port, and tells it to whoever listens.
type keeper struct {
	server net.Listener

	mu        sync.Mutex
	log       *os.File
	at        logFile // that log is
	size      int64   // of log
	most      int64
	listeners map[net.Conn]bool
	port      net.Conn // of the serial port
}

func (k *keeper) open() (err error) {
	for _, old := range []string{consoleSocket, monitorSocket, lookSocket, endFile} {
		if err := os.Remove(old); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	k.at = runDir(".").logAt(0)
	logs, err := runDir(".").logs()
	if err != nil {
		return err
	}
	if len(logs) > 0 {
		k.at = logs[len(logs)-1]
	}
	if k.log, err = os.OpenFile(k.at.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600); err != nil {
		return err
	}
	st, err := k.log.Stat()
	if err != nil {
		return err
	}
	k.size = st.Size()
	k.server, err = net.Listen("unix", consoleSocket)
	return err
}

func (k *keeper) close() {
	k.server.Close()
	k.mu.Lock()
	defer k.mu.Unlock()
	for c := range k.listeners {
		c.Close()
	}
	k.log.Close()
}

// run starts QEMU and waits for its end.
func (k *keeper) run(s spec, lock *os.File) end {
	failed := func(err error) end { return end{At: time.Now(), How: err.Error()} }
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return failed(err)
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "serial"), os.NewFile(uintptr(pair[1]), "serial")
	defer ours.Close()
	monitor, err := listen(monitorSocket)
	if err != nil {
		return failed(err)
	}
	defer monitor.Close()
	look, err := listen(lookSocket)
	if err != nil {
		return failed(err)
	}
	defer look.Close()
	var files []*os.File
	for n := range s.Files {
		files = append(files, os.NewFile(uintptr(firstFD+n), "image"))
	}
	port := firstFD + len(files)
	args := append(s.Args, "-chardev", fmt.Sprintf("socket,id=serial,fd=%d", port), "-device",
		"isa-serial,chardev=serial")
	for n, name := range []string{monitorSocket, lookSocket} {
		args = append(args, "-chardev", fmt.Sprintf("socket,id=%s,server=on,wait=off,fd=%d", name, port+1+n), "-mon",
			"mode=control,chardev="+name)
	}
	cmd := confined(s.Account, s.Binary, args)
	cmd.ExtraFiles = append(files, theirs, monitor, look, lock)
	words := &tail{}
	cmd.Stderr = words
	if err := cmd.Start(); err != nil {
		return failed(err)
	}
	theirs.Close()
	monitor.Close()
	look.Close()
	for _, f := range files {
		f.Close() // QEMU alone has them: they are closed when it ends
	}
	if k.port, err = net.FileConn(ours); err != nil {
		_ = cmd.Process.Kill()
		return failed(errors.Join(err, cmd.Wait()))
	}
	var all sync.WaitGroup
	all.Go(k.follow)
	go k.accept()
	err = cmd.Wait()
	all.Wait()
	e := end{At: time.Now(), Words: words.last()}
	if err != nil {
		e.How = err.Error()
	}
	if _, err := os.Stat(askedFile); err == nil {
		e.Asked = true
	}
	return e
}

// listen makes a socket in the machine's directory, to be handed to QEMU, which has no right to make any.
func listen(name string) (*os.File, error) {
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: name, Net: "unix"})
	if err != nil {
		return nil, err
	}
	l.SetUnlinkOnClose(false)
	defer l.Close()
	return l.File()
}

// follow keeps what the serial port says until QEMU closes it.
func (k *keeper) follow() {
	buf := make([]byte, 32<<10)
	for {
		n, err := k.port.Read(buf)
		if n > 0 {
			k.said(buf[:n])
		}
		if err != nil {
			return
		}
	}
}

func (k *keeper) said(text []byte) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for c := range k.listeners {
		_ = c.SetWriteDeadline(time.Now().Add(sendTime))
		if _, err := c.Write(text); err != nil { // who does not keep up reads the log
			c.Close()
			delete(k.listeners, c)
		}
	}
	if k.size+int64(len(text)) > k.most && k.turn() != nil {
		return // more than was promised is not kept
	}
	n, _ := k.log.Write(text) // a full drive is no reason to stop the machine
	k.size += int64(n)
}

// turn begins a new part of the log; of those before, the last is kept.
func (k *keeper) turn() error {
	next := runDir(".").logAt(k.at.from + k.size)
	fresh, err := os.OpenFile(next.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	k.log.Close()
	k.log, k.at, k.size = fresh, next, 0
	logs, err := runDir(".").logs()
	if err != nil {
		return err
	}
	for _, old := range logs[:max(0, len(logs)-2)] {
		err = errors.Join(err, os.Remove(old.path))
	}
	return err
}

// accept lets others listen, and type.
func (k *keeper) accept() {
	for {
		c, err := k.server.Accept()
		if err != nil {
			return
		}
		k.mu.Lock()
		k.listeners[c] = true
		k.mu.Unlock()
		go func() {
			_, _ = io.Copy(k.port, c)
			k.mu.Lock()
			delete(k.listeners, c)
			k.mu.Unlock()
			c.Close()
		}()
	}
}

// tail keeps the last of what is written.
type tail struct {
	mu  sync.Mutex
	buf []byte
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.buf = append(t.buf, p...)
	if over := len(t.buf) - wordBytes; over > 0 {
		t.buf = append(t.buf[:0], t.buf[over:]...)
	}
	return len(p), nil
}

// last is the last line that says something, and is no warning of the start.
func (t *tail) last() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, line := range slices.Backward(bytes.Split(t.buf, []byte("\n"))) {
		if line = bytes.TrimSpace(line); len(line) > 0 && !bytes.Contains(line, []byte(": warning: ")) &&
			!bytes.Contains(line, []byte(": info: ")) {
			return string(line)
		}
	}
	return ""
}

// detached lets a keeper outlive the one who starts it.
var detached = &syscall.SysProcAttr{Setsid: true}
