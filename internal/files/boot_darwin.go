package files

import "golang.org/x/sys/unix"

// bootID returns what tells this boot of the machine from others; empty: not known.
func bootID() string {
	id, _ := unix.Sysctl("kern.bootsessionuuid") // sysctl(3)
	return id
}
