package demo

import (
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
)

//go:embed programs/tide-summary
var tideSummary []byte

// tideProgram is the program that readings of the tide gauges are handed to.
const tideProgram = "tide-summary"

// LayPrograms puts the programs that the company's jobs run into a folder of allowed programs.
func LayPrograms(folder string) error {
	path := filepath.Join(folder, tideProgram)
	if err := os.WriteFile(path, tideSummary, 0o755); err != nil { //nolint:gosec // another user runs it
		return fmt.Errorf("lay the demo's program down: %w", err)
	}
	if err := os.Chmod(path, 0o755); err != nil { //nolint:gosec // another user runs it, whatever our mask is
		return fmt.Errorf("lay the demo's program down: %w", err)
	}
	return nil
}
