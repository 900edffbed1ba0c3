package boot

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math"
	"os"
	"reflect"
	"slices"

	"kindredgate/internal/config"
	"kindredgate/internal/exchange"
	"kindredgate/internal/loop"
	"kindredgate/internal/tool"
	"kindredgate/internal/tool/mcp"
	"kindredgate/internal/tool/web"
)

// toolServers are the servers of tools, as the configuration says. Those that are as they were before are the same values, so that what runs
// goes on. One that cannot be used as it is set up is among them, and says why when it is asked; the error has the reasons of all, but of those that are as they were before.
func (app *App) toolServers(cfg config.Config) (all map[string]tool.Server, keep map[string]declaredTool, err error) {
	all, keep = map[string]tool.Server{}, map[string]declaredTool{}
	for _, name := range slices.Sorted(maps.Keys(cfg.Tools)) {
		t := cfg.Tools[name]
		key, problem := t.Key(name)
		if was, ok := app.declaredTools[name]; ok && problem == nil && was.problem == "" && was.key == key && reflect.DeepEqual(was.Tool, t) {
			all[name], keep[name] = was.server, was
			continue
		}
		var server tool.Server
		if problem == nil {
			server, problem = app.toolServer(name, t, key)
		}
		if problem != nil {
			was, known := app.declaredTools[name]
			if !known || was.problem != problem.Error() || !reflect.DeepEqual(was.Tool, t) { // else it is no news
				err = errors.Join(err, problem)
			}
			all[name], keep[name] = tool.Unusable(problem), declaredTool{Tool: t, problem: problem.Error()}
			continue
		}
		all[name], keep[name] = server, declaredTool{Tool: t, key: key, server: server}
	}
	return all, keep, err
}

// declaredTool is a server as it was made.
type declaredTool struct {
	config.Tool
	key     string
	server  tool.Server
	problem string // why it cannot be used
}

func (app *App) toolServer(name string, t config.Tool, key string) (tool.Server, error) {
	headers := map[string]string(maps.Clone(t.Headers))
	if key != "" {
		if headers == nil {
			headers = map[string]string{}
		}
		headers["Authorization"] = "Bearer " + key
	}
	if t.Web != nil {
		schema, err := t.SchemaJSON()
		if err != nil {
			return nil, fmt.Errorf("tools.%s.schema: %w", name, err)
		}
		s, err := web.New(name, web.Options{URL: t.Web.URL, Method: cmp.Or(t.Web.Method, "GET"), Headers: headers, Title: t.Title, Description: t.Description, Schema: schema, ReadOnly: t.ReadOnly})
		if err != nil {
			return nil, fmt.Errorf("tools.%s: %w", name, err)
		}
		return s, nil
	}
	folder := ""
	if t.Folder != "" {
		var err error
		if folder, err = config.Absolute(t.Folder); err != nil {
			return nil, err
		}
		if info, err := os.Stat(folder); err != nil || !info.IsDir() {
			return nil, fmt.Errorf("tools.%s.folder: there is no folder %s", name, folder)
		}
	}
	return mcp.New(mcp.Options{Command: t.Command, Env: t.Env, Folder: folder, URL: t.URL, Headers: headers, Guard: web.Named, Start: t.Start, Idle: t.Idle}, app.options.Version, app.log.With("tools", name)), nil
}

// remoteTools makes a server of one that a request names.
func (app *App) remoteTools(s exchange.ToolServer, private bool) tool.Server {
	guard := web.Public
	if private {
		guard = web.Private
	}
	return mcp.New(mcp.Options{URL: s.URL, Headers: s.Headers, Guard: guard}, app.options.Version, app.log.With("tools", s.Label))
}

// toolRules are the rules that a configuration has for loops.
func toolRules(c config.Config) loop.Rules {
	r := c.ToolRules
	return loop.Rules{Steps: cmp.Or(r.Steps, loop.Usual.Steps), Calls: cmp.Or(r.Calls, loop.Usual.Calls), Time: cmp.Or(r.Time, loop.Usual.Time), Tokens: r.Tokens,
		Cost: int64(math.Round(r.Cost * 1e6)), Approval: cmp.Or(r.Approval, loop.Usual.Approval), Hosts: r.Hosts, Private: r.PrivateAddresses, Hosted: c.HostedTools}
}

// toolLimits bound single calls.
func toolLimits(c config.Config) tool.Limits {
	return tool.Limits{Time: cmp.Or(c.ToolRules.CallTime, loop.UsualLimits.Time), Result: int(cmp.Or(int64(c.ToolRules.Result), int64(loop.UsualLimits.Result)))}
}
