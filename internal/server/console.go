package server

import (
	"errors"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"
)

// contentPolicy keeps the console to what the gate serves: no script, style, font or request from elsewhere.
const contentPolicy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"

// root gives a browser the console, and anything else one line.
func (s *Server) root(c *gin.Context) (any, error) {
	if !strings.Contains(c.GetHeader("Accept"), "text/html") {
		c.String(http.StatusOK, "Kindred Gate is up. Base URL for applications: %s\n", baseOf(c))
		return nil, nil
	}
	page, err := fs.ReadFile(s.Console, "index.html")
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.String(http.StatusOK, "Kindred Gate is up, but its console was not built into this binary: run \"make build\".\nBase URL for applications: %s\n", baseOf(c))
		return nil, nil
	case err != nil:
		return nil, err
	}
	c.Header("Content-Security-Policy", contentPolicy)
	c.Header("Referrer-Policy", "no-referrer")
	c.Header("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", page)
	return nil, nil
}

// accepts reports whether a client takes a coding (RFC 9110, section 12.5.3). One that is named with q=0 is not taken.
func accepts(header, coding string) bool {
	for part := range strings.SplitSeq(header, ",") {
		name, params, _ := strings.Cut(strings.TrimSpace(part), ";")
		if strings.EqualFold(strings.TrimSpace(name), coding) {
			q := strings.ReplaceAll(params, " ", "")
			return q != "q=0" && !strings.HasPrefix(q, "q=0.000")
		}
	}
	return false
}

// asset serves the console's files, whose names change with their contents.
func (s *Server) asset(c *gin.Context) (any, error) {
	file := "assets" + c.Param("file")
	if info, err := fs.Stat(s.Console, file); err != nil || info.IsDir() {
		return s.noRoute(c)
	}
	c.Header("Cache-Control", "public, max-age=31536000, immutable")
	if kind := mime.TypeByExtension(path.Ext(file)); kind != "" {
		c.Header("Content-Type", kind) // which is that of the file, however it is packed
	}
	for _, packed := range []struct{ coding, suffix string }{{"br", ".br"}, {"gzip", ".gz"}} {
		if !accepts(c.GetHeader("Accept-Encoding"), packed.coding) {
			continue
		}
		if _, err := fs.Stat(s.Console, file+packed.suffix); err == nil {
			c.Header("Content-Encoding", packed.coding)
			file += packed.suffix
			break
		}
	}
	http.ServeFileFS(c.Writer, c.Request, s.Console, file)
	return nil, nil
}
