//go:build unix && !race

package main

const looksForRaces = false
