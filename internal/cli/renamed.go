package cli

import (
	"github.com/spf13/pflag"
)

// formerly has an option understood by the name that it had before, with a word about the new one.
func formerly(fs *pflag.FlagSet, old, now string) {
	f := *fs.Lookup(now)
	f.Name, f.Shorthand, f.Hidden = old, "", true
	f.Value = both{f.Value, fs.Lookup(now)}
	f.Deprecated = "it is called --" + now + " now"
	fs.AddFlag(&f)
}

// both is a value that counts as given under another name.
type both struct {
	pflag.Value
	as *pflag.Flag
}

// Set gives the value.
func (b both) Set(text string) error {
	b.as.Changed = true
	return b.Value.Set(text)
}
