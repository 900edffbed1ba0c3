package config

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"
)

// Fleet says how machines that dial in reach the gate, and with which other gates it shares what it knows.
type Fleet struct {
	// Listen is the address at which machines come in, such as 0.0.0.0:7718.
	Listen string `yaml:"listen"`
	// NATS are servers that gates and machines meet at, in its place, such as tls://n1.example:4222.
	NATS []string `yaml:"nats"`
	// Credentials is the file with the keys of all gates that share these servers.
	Credentials string `yaml:"credentials"`
	// Roots is a PEM file with the certificate that has signed those of the servers; the system's if it is empty.
	Roots string `yaml:"roots"`
	// Addresses are what machines are told to dial, where that is not what the settings above say.
	Addresses []string `yaml:"addresses"`
	// Name is what this gate is called among gates; the computer's name if it is empty.
	Name string `yaml:"name"`
}

// On reports whether there is anything of a fleet.
func (f Fleet) On() bool { return f.Listen != "" || len(f.NATS) > 0 }

func (f *Fleet) check() error {
	switch {
	case f.Listen != "" && len(f.NATS) > 0:
		return errors.New("fleet.listen and fleet.nats are two ways for machines to come in; choose one")
	case len(f.NATS) > 0 && f.Credentials == "":
		return errors.New("fleet.credentials is missing: the file with the keys of the gates, which \"kindred gates prepare\" makes")
	case len(f.NATS) == 0 && (f.Credentials != "" || f.Roots != ""):
		return errors.New("fleet.credentials and fleet.roots are for servers in fleet.nats, and there are none")
	}
	if f.Listen != "" {
		if _, port, err := net.SplitHostPort(f.Listen); err != nil || port == "" {
			return fmt.Errorf("fleet.listen is %q; it must be an address and a port, such as 0.0.0.0:7718", f.Listen)
		}
	}
	for _, s := range f.NATS {
		u, err := url.Parse(s)
		if err != nil || u.Scheme != "tls" && u.Scheme != "nats" || u.Port() == "" || u.User != nil || u.Path != "" {
			return fmt.Errorf("fleet.nats has %q; a server looks like tls://n1.example:4222", s)
		}
		if u.Scheme == "nats" && !loopback(u.Hostname()) {
			return fmt.Errorf("fleet.nats has %q, which is not encrypted; only servers on this computer are used like that, so write tls://", s)
		}
	}
	for _, a := range f.Addresses {
		if u, err := url.Parse(a); err != nil || u.Scheme != "tls" || u.Port() == "" || u.User != nil || u.Path != "" {
			return fmt.Errorf("fleet.addresses has %q; an address looks like tls://gate.example:7718", a)
		}
	}
	for _, file := range []*string{&f.Credentials, &f.Roots} {
		if *file != "" {
			path, err := Absolute(*file)
			if err != nil {
				return err
			}
			*file = path
		}
	}
	if f.Name != "" && !runnerName.MatchString(f.Name) {
		return fmt.Errorf("fleet.name is %q; a gate's name has 1 to 32 small letters, digits, \".\", \"_\" or \"-\"", f.Name)
	}
	return nil
}

// Join says what this machine offers to a gate that it has joined.
type Join struct {
	// Gate is the address of the gate, such as tls://gate.example:7718, or several with commas between them.
	Gate string `yaml:"gate" apply:"restart"`
	// TokenEnv names the variable that has the token of an invitation. It is needed once.
	TokenEnv string `yaml:"token_env" apply:"restart"`
	// Fingerprint is that of the gate's certificate, as the invitation says; empty for one that the system trusts.
	Fingerprint string   `yaml:"fingerprint" apply:"restart"`
	Models      []string `yaml:"models"`   // names that are offered; all models that are installed here if there are none
	AtOnce      int      `yaml:"at_once"`  // answers for the gate; 0 for any number
	Hours       Hours    `yaml:"hours"`    // of the day in which work is taken, such as 20:00-08:00; all of it if empty
	OnMains     bool     `yaml:"on_mains"` // whether work is taken only while the computer is not on battery
}

func (j *Join) check() error {
	if j.Gate == "" && (j.TokenEnv != "" || j.Fingerprint != "" || len(j.Models) > 0 || j.AtOnce != 0 || j.Hours != "" || j.OnMains) {
		return errors.New("join.gate is missing: the address of the gate to join, such as tls://gate.example:7718")
	}
	if j.AtOnce < 0 || j.AtOnce > 1000 {
		return fmt.Errorf("join.at_once is %d; it must be from 1 to 1000, or 0 for any number", j.AtOnce)
	}
	_, _, err := j.Hours.ends()
	return err
}

// Hours are a part of the day, by the clock of the computer: 20:00-08:00. It is empty for all of it.
type Hours string

// ends are the minutes of the day between which the hours are.
func (h Hours) ends() (from, to int, err error) {
	if h == "" {
		return 0, 0, nil
	}
	a, b, ok := strings.Cut(string(h), "-")
	begins, err1 := time.Parse("15:04", strings.TrimSpace(a))
	ends, err2 := time.Parse("15:04", strings.TrimSpace(b))
	if !ok || err1 != nil || err2 != nil || begins.Equal(ends) {
		return 0, 0, fmt.Errorf("join.hours is %q; it must be two times of the day, such as 20:00-08:00", h)
	}
	return begins.Hour()*60 + begins.Minute(), ends.Hour()*60 + ends.Minute(), nil
}

// Has reports whether a time lies within the hours.
func (h Hours) Has(t time.Time) bool {
	from, to, err := h.ends()
	now := t.Hour()*60 + t.Minute()
	switch {
	case err != nil:
		return false
	case from < to:
		return now >= from && now < to
	case from > to:
		return now >= from || now < to
	}
	return true
}
