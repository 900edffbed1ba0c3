package server

import (
	"github.com/gin-gonic/gin"

	"kindredgate/internal/keyring"
)

// GroupInfo is a group of keys, with how its limits stand.
type GroupInfo struct {
	keyring.Group
	Standing []LimitStanding `json:"standing"`
}

// GroupList is what GET /gate/groups tells.
type GroupList struct {
	Groups []GroupInfo `json:"groups"`
}

func (s *Server) listGroups(c *gin.Context) (any, error) {
	list := GroupList{Groups: []GroupInfo{}}
	for _, g := range s.Gate.Keys.Groups() {
		list.Groups = append(list.Groups, GroupInfo{g.Group, standings(g.Standing)})
	}
	return list, nil
}

// setGroup makes a group, or gives it other limits: those that it is to have, all of them.
func (s *Server) setGroup(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	var g keyring.Group
	g.Name, _ = o.String("name")
	if l := o.Object("limits"); l != nil {
		g.Limits.Read(l)
	}
	if err = onlyKnown(o); err == nil {
		err = s.Gate.Keys.SetGroup(c.Request.Context(), g)
	}
	if err != nil {
		return nil, err
	}
	s.Log.Info("group set", "id", c.GetString(idKey), "group", g.Name)
	return g, nil
}

func (s *Server) removeGroup(c *gin.Context) (any, error) {
	name := c.Query("name")
	if err := s.Gate.Keys.DropGroup(c.Request.Context(), name); err != nil {
		return nil, err
	}
	s.Log.Info("group removed", "id", c.GetString(idKey), "group", name)
	return nil, nil
}
