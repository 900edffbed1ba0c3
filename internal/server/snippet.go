package server

import (
	"github.com/gin-gonic/gin"

	"kindredgate/internal/snippet"
)

// Snippet is a request as a program.
type Snippet struct {
	Text string `json:"text"`
}

// writeSnippet writes a request to this gate as a program.
func (s *Server) writeSnippet(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	style, _ := o.String("style")
	language, _ := o.String("language")
	request, ok := o.Dict("request")
	if !ok {
		o.Fail("request", "request is missing: the body of the request to write")
	}
	if err := onlyKnown(o); err != nil {
		return nil, err
	}
	text, err := snippet.Write(style, language, baseOf(c), request)
	if err != nil {
		return nil, err
	}
	return Snippet{text}, nil
}
