//go:build unix && race

package main

// looksForRaces says that the program of the stories is to look for data races,
// as the tests themselves do.
const looksForRaces = true
