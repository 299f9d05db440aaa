package sqlite

import (
	"bytes"
	"fmt"
	"os"
	"strconv"

	"golang.org/x/sys/unix"
)

// alone says whether no other process has the file open. In WAL mode each that has keeps a lock on the wal-index for as
// long (SQLite source code, os_unix.c, "deadman switch"), and Linux lists the locks of all processes. Where our own is
// not in that list the others' are not either, and it says false: on another system, on a file system that numbers its
// files otherwise, outside WAL mode.
func (s *Source) alone() bool {
	if s.blocks {
		return false
	}
	var st unix.Stat_t
	if err := unix.Stat(s.path+"-shm", &st); err != nil {
		return false
	}
	list, err := os.ReadFile("/proc/locks")
	if err != nil {
		return false
	}
	ours, others := lockers(list, number(&st), os.Getpid())
	return ours && !others
}

// number is how the kernel's list of locks names a file.
func number(st *unix.Stat_t) string {
	dev := uint64(st.Dev)
	return fmt.Sprintf("%02x:%02x:%d", unix.Major(dev), unix.Minor(dev), st.Ino)
}

// lockers tells from the kernel's list of locks who has locked a file: the process given, and any other (Linux
// documentation, proc_locks(5)).
func lockers(list []byte, file string, process int) (ours, others bool) {
	for line := range bytes.Lines(list) {
		f := bytes.Fields(line)
		for i, x := range f {
			if i == 0 || string(x) != file {
				continue
			}
			if pid, err := strconv.Atoi(string(f[i-1])); err == nil && pid == process {
				ours = true
			} else {
				others = true
			}
		}
	}
	return ours, others
}
