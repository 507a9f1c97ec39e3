package qemu

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"syscall"

	"github.com/elastic/go-seccomp-bpf"
	"github.com/landlock-lsm/go-landlock/landlock"
	llsys "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/internal/hostlink"
)

// A QEMU that its guest has broken out of can do this, and no more: use the descriptors that it was given, read QEMU's
// own libraries and firmware, and use the hardware's virtualisation. The kernel holds it to that (Landlock, Linux's
// userspace-api/landlock), and QEMU's own filter of system calls keeps it from starting programs. Where the agent runs
// as root every machine has an account of its own besides.

// ConfinedCommand is the hidden command of this program that becomes a machine's QEMU.
const ConfinedCommand = "machine-confined"

// Rights of files and directories (Linux's userspace-api/landlock, "Filesystem flags").
const (
	mayRead = llsys.AccessFSReadFile | llsys.AccessFSReadDir
	mayRun  = llsys.AccessFSReadFile | llsys.AccessFSExecute
	mayUse  = llsys.AccessFSReadFile | llsys.AccessFSWriteFile | llsys.AccessFSIoctlDev
)

// Where QEMU's libraries, its own data and the loader of programs lie in Debian.
var (
	readable = []string{"/usr/lib", "/usr/share", "/lib", "/lib64", "/etc/ld.so.cache", "/sys/devices/system"}
	usable   = []string{kvmDevice, "/dev/null", "/dev/zero", "/dev/urandom"}
	loaders  = []string{"/lib64/ld-linux-x86-64.so.2"}
)

// denied are system calls by which a program reaches others, and which a QEMU whose sockets are all given to it has no
// use for. Its own filter denies more.
var denied = []string{"connect", "bind", "ptrace", "process_vm_readv", "process_vm_writev", "io_uring_setup", "mount",
	"unshare", "setns"}

// Confine gives up what a QEMU does not need, and becomes the program that args name. It does not return unless that
// fails.
func Confine(args []string) error {
	if len(args) == 0 {
		return errors.New("no program is named")
	}
	runtime.LockOSThread()
	if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil {
		return fmt.Errorf("give up capabilities: %w", err)
	}
	rules := []landlock.Rule{landlock.PathAccess(mayRun, append([]string{args[0]}, loaders...)...).IgnoreIfMissing()}
	for _, path := range readable {
		rights := landlock.AccessFSSet(mayRead)
		if isFile(path) {
			rights = llsys.AccessFSReadFile
		}
		rules = append(rules, landlock.PathAccess(rights, path).IgnoreIfMissing())
	}
	rules = append(rules, landlock.PathAccess(mayUse, usable...).IgnoreIfMissing())
	if err := landlock.V9.BestEffort().Restrict(rules...); err != nil {
		return fmt.Errorf("confine %s: %w", args[0], err)
	}
	if err := seccomp.LoadFilter(seccomp.Filter{NoNewPrivs: true, Flag: seccomp.FilterFlagTSync,
		Policy: seccomp.Policy{DefaultAction: seccomp.ActionAllow, Syscalls: []seccomp.SyscallGroup{
			{Action: seccomp.ActionErrno, Names: denied}}}}); err != nil {
		return fmt.Errorf("confine %s: %w", args[0], err)
	}
	return fmt.Errorf("%s: %w", args[0], syscall.Exec(args[0], args, nil))
}

// confined is a command that becomes a program, confined, under an account of its own where there is one.
func confined(account int, program string, args []string) *exec.Cmd {
	cmd := exec.Command("/proc/self/exe", append([]string{ConfinedCommand, "--", program}, args...)...)
	if account > 0 {
		id := uint32(account)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: id, Gid: id, Groups: groups()}}
	}
	return cmd
}

const (
	accountFile  = "account"
	firstAccount = 1_900_000_000 // above all that systemd.exec(5) and useradd(8) give out
)

// account is the number of the account that the machine of a directory runs under: its own, given out once. 0 where
// the agent may not change accounts.
func (d *Driver) account(dir runDir) (int, error) {
	if os.Geteuid() != 0 {
		return 0, nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	dirs, err := runDirs(d.dir)
	if err != nil {
		return 0, err
	}
	next := firstAccount
	for _, other := range dirs {
		raw, err := other.read(accountFile)
		if err != nil {
			return 0, err
		}
		n, err := strconv.Atoi(strings.TrimSpace(string(raw)))
		if err != nil {
			continue // it has none yet
		}
		if other == dir {
			return n, nil
		}
		next = max(next, n+1)
	}
	return next, dir.write(accountFile, []byte(strconv.Itoa(next)))
}

// confinement says how machines are kept from the rest of their computer.
func confinement() hostlink.Check {
	c := hostlink.Check{Name: "confinement"}
	version, err := llsys.LandlockGetABIVersion()
	switch {
	case err != nil:
		c.Says = "this kernel does not confine machines to their own files: it needs Landlock, which Debian's has"
	case os.Geteuid() != 0:
		c.OK, c.Says = true, fmt.Sprintf("the kernel confines machines to their own files (Landlock %d); they share "+
			"the agent's account", version)
	default:
		c.OK, c.Says = true, fmt.Sprintf("the kernel confines machines to their own files (Landlock %d), each with "+
			"an account of its own", version)
	}
	return c
}
