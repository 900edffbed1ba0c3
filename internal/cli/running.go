package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/boot"
	"kindredgate/internal/config"
)

// runningGate is the word that a gate leaves of itself while it runs, so that the commands of the same person
// find it.
type runningGate struct {
	Address string `json:"address"` // host:port
	Data    string `json:"data"`    // its data folder, where the owner key is
}

// announce leaves word of a gate. withdraw takes it away.
func announce(addr net.Addr, data string) (withdraw func() error, err error) {
	dir, err := runningFolder()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, boot.FolderError(dir, err)
	}
	tcp, ok := addr.(*net.TCPAddr)
	if !ok {
		return nil, fmt.Errorf("the gate listens on %s, which is not a TCP address", addr)
	}
	host := tcp.IP.String()
	if tcp.IP.IsUnspecified() {
		host = "127.0.0.1"
	}
	raw, err := json.Marshal(runningGate{net.JoinHostPort(host, fmt.Sprint(tcp.Port)), data})
	if err != nil {
		return nil, err
	}
	// What is there for this port is of a gate that was killed, or is just about to take its word away itself; with the
	// process in the name it cannot take this one.
	old, err := filepath.Glob(filepath.Join(dir, fmt.Sprintf("%d-*.json", tcp.Port)))
	if err != nil {
		return nil, err
	}
	for _, file := range old {
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, boot.FolderError(dir, err)
		}
	}
	file := filepath.Join(dir, fmt.Sprintf("%d-%d.json", tcp.Port, os.Getpid()))
	if err := os.WriteFile(file, raw, 0o600); err != nil {
		return nil, boot.FolderError(dir, err)
	}
	return func() error {
		if err := os.Remove(file); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}, nil
}

func runningFolder() (string, error) {
	dir, err := config.StateFolder()
	return filepath.Join(dir, "running"), err
}

// runningGates lists the gates of this person that answer.
func runningGates() ([]runningGate, error) {
	dir, err := runningFolder()
	if err != nil {
		return nil, err
	}
	files, err := filepath.Glob(filepath.Join(dir, "*.json"))
	if err != nil {
		return nil, err
	}
	var list []runningGate
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			continue // it has just stopped
		}
		var g runningGate
		if json.Unmarshal(raw, &g) != nil {
			continue // it is just being written
		}
		// A gate that was killed leaves its word behind.
		conn, err := net.DialTimeout("tcp", g.Address, time.Second)
		if err != nil {
			continue
		}
		conn.Close()
		list = append(list, g)
	}
	return list, nil
}

// findGate decides which gate a command is for: the one at address, or, if that is empty, the only one that
// runs here, or the one at the usual address.
func findGate(address string) (runningGate, error) {
	gates, err := runningGates()
	if err != nil {
		return runningGate{}, err
	}
	if address == "" {
		switch {
		case len(gates) == 0:
			return runningGate{}, errors.New("no gate is running here; start one with \"kindred serve\" or \"kindred demo\", or name one with --address")
		case len(gates) == 1:
			return gates[0], nil
		}
		address = config.DefaultListen
	}
	if i := slices.IndexFunc(gates, func(g runningGate) bool { return g.Address == address }); i >= 0 {
		return gates[i], nil
	}
	if address == config.DefaultListen && len(gates) > 1 {
		var all []string
		for _, g := range gates {
			all = append(all, g.Address)
		}
		return runningGate{}, fmt.Errorf("several gates are running here; choose one with --address: %s", strings.Join(all, ", "))
	}
	return runningGate{Address: address}, nil
}
