// Package scenarios holds the simulated buildings that ship with the program.
package scenarios

import "embed"

// Files holds the scenarios and the registers beside them.
//
//go:embed *.yaml *.csv
var Files embed.FS

// Demo is the file name of the demo's scenario.
const Demo = "fernhollow.yaml"
