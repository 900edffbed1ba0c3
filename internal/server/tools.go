package server

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/tool"
)

// ToolInfo is what is told of a tool.
type ToolInfo struct {
	tool.Tool
	tool.Usage
	MeanMS float64 `json:"mean_ms"`
}

// ToolServerInfo is what is told of a server of tools.
type ToolServerInfo struct {
	Name string `json:"name"`
	tool.Status
	Tools int `json:"tools"` // that it offers, as far as it was asked
}

// ToolList is what the gate can run for models.
type ToolList struct {
	Tools   []ToolInfo       `json:"tools"`
	Servers []ToolServerInfo `json:"servers"`
}

// ToolTried is what a call has given.
type ToolTried struct {
	Output string        `json:"output"`
	Error  *tool.Failure `json:"error,omitempty"`
	Bytes  int           `json:"bytes"`
	MS     float64       `json:"ms"`
}

// askTools is how long servers have to say what they offer when they are listed.
const askTools = 5 * time.Second

// listTools lists servers and what they offer. Those that have not said so yet are asked; with check=true all are.
func (s *Server) listTools(c *gin.Context) (any, error) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), askTools)
	defer cancel()
	names := s.Tools.Names()
	var asking sync.WaitGroup
	for _, name := range names {
		if s.Tools.Known(name) != nil && c.Query("check") != "true" {
			continue
		}
		asking.Go(func() {
			defer func() {
				if p := recover(); p != nil {
					s.Log.Error("listing tools panicked", "tools", name, "error", exchange.Panicked(p).Error())
				}
			}()
			_, _ = s.Tools.Tools(ctx, name) // what goes wrong is in its status
		})
	}
	asking.Wait()
	list := ToolList{Tools: []ToolInfo{}, Servers: []ToolServerInfo{}}
	for _, name := range names {
		server, err := s.Tools.Get(name)
		if err != nil {
			continue // it has just been taken out
		}
		known := s.Tools.Known(name)
		list.Servers = append(list.Servers, ToolServerInfo{name, server.Status(), len(known)})
		for _, t := range known {
			u := s.Tools.Usage(t)
			list.Tools = append(list.Tools, ToolInfo{t, u, u.MeanMS()})
		}
	}
	return list, nil
}

// tryTool calls a tool, for who manages the gate.
func (s *Server) tryTool(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	server, _ := o.String("server")
	name, _ := o.String("name")
	arguments := json.RawMessage(`{}`)
	if raw, ok := o.Whole("arguments"); ok {
		arguments = raw
	}
	if err := onlyKnown(o); err != nil {
		return nil, err
	}
	ctx := c.Request.Context()
	list, err := s.Tools.Tools(ctx, server)
	if err != nil {
		return nil, exchange.Errorf(exchange.NotFound, "tool_not_found", "%v", err)
	}
	for _, t := range list {
		if t.Name == name {
			r := s.Tools.Call(ctx, t, string(arguments))
			return ToolTried{r.Text, r.Failure, r.Bytes, float64(r.Took.Microseconds()) / 1000}, nil
		}
	}
	return nil, exchange.Errorf(exchange.NotFound, "tool_not_found", "the server %q has no tool %q; \"kindred tools\" lists what it has", server, name)
}

// listApprovals lists the calls that wait for an approval of the caller's.
func (s *Server) listApprovals(c *gin.Context) (any, error) {
	return gin.H{"approvals": s.Loops.Pending(callerOf(c))}, nil
}

// decide approves a call that waits, or says that it is not to be made.
func (s *Server) decide(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	if _, said := o.Raw("approve"); !said {
		o.Fail("approve", "approve is missing: true or false")
	}
	approve := o.Bool("approve")
	reason, _ := o.String("reason")
	if err := onlyKnown(o); err != nil {
		return nil, err
	}
	if err := s.Loops.Decide(callerOf(c), c.Param("id"), approve, reason); err != nil {
		return nil, err
	}
	return gin.H{"id": c.Param("id"), "approve": approve}, nil
}
