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

// otherwiseRemove are other words for remove: what it was called before, and what people type.
var otherwiseRemove = []string{"delete", "rm", "forget"}

// meant are what people type for commands that are called otherwise here, by the command in which they type it.
var meant = map[string]map[string]string{
	"kindred": {
		"list": "models list", "ls": "models list", "ps": "status", "start": "serve", "run": "serve", "up": "serve", "stop": "serve\" in its terminal, with Ctrl-C: \"serve", "logs": "traffic", "log": "traffic", "history": "traffic",
		"config": "serve --print-config", "settings": "serve --print-config", "chat": "talk", "pull": "models add", "add": "models add", "show": "models show", "info": "status", "doctor": "check", "usage": "costs", "key": "keys", "model": "models",
	},
	"kindred keys":   {"create": "keys issue", "add": "keys issue", "new": "keys issue", "mine": "keys self", "delete": "keys revoke", "remove": "keys revoke", "rm": "keys revoke"},
	"kindred models": {"pull": "models add", "delete": "models remove", "ls": "models list", "ps": "status"},
}
