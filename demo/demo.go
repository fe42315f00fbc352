// Package demo holds the harbour almanac, the project that "tugline demo" writes.
package demo

import "embed"

// Files are the files of the almanac, as a user would write them.
//
//go:embed tugline.toml almanac.env all:gauges all:scripts all:notices all:courier harbours.csv
var Files embed.FS
