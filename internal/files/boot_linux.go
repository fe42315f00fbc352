package files

import "os"

// bootID returns what tells this boot of the machine from others; empty: not known.
func bootID() string {
	text, _ := os.ReadFile("/proc/sys/kernel/random/boot_id") // proc_sys_kernel(5)
	return string(text)
}
