package server

import (
	"net/http"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/goccy/go-yaml"

	"kindredgate/api"
)

// contract is the contract as JSON.
var contract = sync.OnceValues(func() ([]byte, error) { return yaml.YAMLToJSON(api.Spec) })

func (s *Server) openAPI(c *gin.Context) {
	raw, err := contract()
	if err != nil {
		fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/json; charset=utf-8", raw)
}
