package listen

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"syscall"
)

// droppedBySystem is how many datagrams the system threw away because the socket's buffer was full (Linux'
// proc_net(5)); 0 where it does not tell.
func droppedBySystem(conn *net.UDPConn) int64 {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0
	}
	var inode uint64
	err = raw.Control(func(fd uintptr) {
		var st syscall.Stat_t
		if syscall.Fstat(int(fd), &st) == nil { //nolint:gosec // it is a descriptor
			inode = st.Ino
		}
	})
	if err != nil || inode == 0 {
		return 0
	}
	for _, table := range []string{"/proc/net/udp", "/proc/net/udp6"} {
		if n, ok := drops(table, fmt.Sprint(inode)); ok {
			return n
		}
	}
	return 0
}

// drops reads the count of one socket from a table of sockets; the inode is its tenth column, the drops its last.
func drops(table, inode string) (int64, bool) {
	f, err := os.Open(table)
	if err != nil {
		return 0, false
	}
	defer closeQuietly(f)
	for s := bufio.NewScanner(f); s.Scan(); {
		if fields := strings.Fields(s.Text()); len(fields) >= 13 && fields[9] == inode {
			n, err := strconv.ParseInt(fields[12], 10, 64)
			return n, err == nil
		}
	}
	return 0, false
}
