package jinja

import (
	"encoding/json"
	"os"
	"testing"
)

// renderCase is a template, and what the reference implementation makes of it.
type renderCase struct {
	Template string          `json:"template"`
	Vars     json.RawMessage `json:"-"`
	Out      string          `json:"out"`
	Error    bool            `json:"error"`
}

func readCases(t testing.TB) []renderCase {
	t.Helper()
	raw, err := os.ReadFile("testdata/cases.json")
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Vars  json.RawMessage `json:"vars"`
		Cases []renderCase    `json:"cases"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		t.Fatal(err)
	}
	for i := range doc.Cases {
		doc.Cases[i].Vars = doc.Vars
	}
	return doc.Cases
}
