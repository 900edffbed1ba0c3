package main

import (
	"bytes"
	"os"
	"testing"
)

func TestTheConsoleHasTheTables(t *testing.T) {
	want, err := tables()
	if err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("../../web/src/tables.json")
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got, want) {
		t.Error("web/src/tables.json is not what the program has; run \"make generate\"")
	}
}
