// Command tables writes down, for the console, what stands in tables of the program: the limits that a key may have, and the styles in
// which it may ask. "make generate" runs it; a test holds the file to the program.
package main

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"

	"kindredgate/internal/dialect"
	"kindredgate/internal/keyring"
)

// limit is a limit as the console's forms have it.
type limit struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Short string `json:"short"`
	Most  int    `json:"most,omitempty"`
}

func tables() ([]byte, error) {
	var limits []limit
	for _, k := range keyring.LimitKinds {
		limits = append(limits, limit{k.Name, k.Title, k.Short, k.Most})
	}
	raw, err := json.MarshalIndent(map[string]any{"limits": limits, "styles": dialect.Styles, "endpoints": slices.Concat(dialect.Styles, dialect.Passed)}, "", "  ")
	return append(raw, '\n'), err
}

func main() {
	raw, err := tables()
	if err == nil && len(os.Args) != 2 {
		err = fmt.Errorf("usage: tables FILE")
	}
	if err == nil {
		err = os.WriteFile(os.Args[1], raw, 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "tables:", err)
		os.Exit(1)
	}
}
