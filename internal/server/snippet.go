package server

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/snippet"
)

// Snippet is a request as a program.
type Snippet struct {
	Text string `json:"text"`
}

// writeSnippet writes a request to this gate as a program.
func (s *Server) writeSnippet(c *gin.Context) {
	o, err := object(c)
	if err != nil {
		fail(c, err)
		return
	}
	style, _ := o.String("style")
	language, _ := o.String("language")
	request, ok := o.Dict("request")
	if !ok {
		o.Fail("request", "request is missing: the body of the request to write")
	}
	if err := onlyKnown(o); err != nil {
		fail(c, err)
		return
	}
	text, err := snippet.Write(style, language, s.front.Load().base, request)
	if err != nil {
		fail(c, err)
		return
	}
	c.JSON(http.StatusOK, Snippet{text})
}
