package service

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// holder returns the program that listens at an address, such as "python3 (process
// 123)"; empty: it is not known. It reads /proc (proc(5)).
func holder(address string) string {
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return ""
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return ""
	}
	sockets := map[string]bool{}
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		listening(file, number, sockets)
	}
	links, _ := filepath.Glob("/proc/[0-9]*/fd/*") // those of other users are not shown
	for _, link := range links {
		if target, err := os.Readlink(link); err != nil || !sockets[target] {
			continue
		}
		pid := strings.Split(link, "/")[2]
		name, _ := os.ReadFile("/proc/" + pid + "/comm") // it may have ended
		return fmt.Sprintf("%s (process %s)", strings.TrimSpace(string(name)), pid)
	}
	return ""
}

// listening adds the sockets that listen at a port, as the links of /proc name them.
func listening(file string, port int, sockets map[string]bool) {
	f, err := os.Open(file)
	if err != nil {
		return
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		if len(fields) < 10 || fields[3] != "0A" { // 0A: it listens
			continue
		}
		_, at, _ := strings.Cut(fields[1], ":")
		if n, err := strconv.ParseInt(at, 16, 32); err == nil && int(n) == port {
			sockets["socket:["+fields[9]+"]"] = true
		}
	}
}
