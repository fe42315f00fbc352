//go:build !linux && !darwin

package files

// bootID returns nothing: here the system does not tell one boot from another.
func bootID() string { return "" }
