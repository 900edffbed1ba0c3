package server

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
)

// longSignIn is how many bytes a request to sign in has at the most.
const longSignIn = 4 << 10

// signIn exchanges the owner key for a cookie that no script can read and no other site can use.
func (s *Server) signIn(c *gin.Context) (any, error) {
	if err := routerOf(c).origins.Check(c.Request); err != nil {
		return nil, exchange.Errorf(exchange.Forbidden, "cross_origin", "a page of another origin cannot sign in here")
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, longSignIn) // whoever sends it has not shown a key yet
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	key, _ := o.String("key")
	token, expires, err := s.Gate.Keys.SignIn(c.Request.Context(), key)
	if err != nil {
		return nil, s.failed.slow(c, err)
	}
	s.setCookie(c, token, time.Until(expires))
	return nil, nil
}

func (s *Server) setCookie(c *gin.Context, token string, life time.Duration) {
	http.SetCookie(c.Writer, &http.Cookie{Name: sessionCookie, Value: token, Path: "/", MaxAge: int(life.Seconds()), HttpOnly: true, Secure: encrypted(c), SameSite: http.SameSiteStrictMode})
}

// encrypted says whether the browser's line is, as far as the gate or a proxy that it trusts can tell.
func encrypted(c *gin.Context) bool {
	return c.Request.TLS != nil || c.ClientIP() != c.RemoteIP() && c.GetHeader("X-Forwarded-Proto") == "https"
}

func (s *Server) signOut(c *gin.Context) (any, error) {
	if err := routerOf(c).origins.Check(c.Request); err != nil {
		return nil, exchange.Errorf(exchange.Forbidden, "cross_origin", "a page of another origin tried to sign out")
	}
	if token, err := c.Cookie(sessionCookie); err == nil {
		if err := s.Gate.Keys.SignOut(c.Request.Context(), token); err != nil {
			return nil, err
		}
	}
	s.setCookie(c, "", -time.Second)
	return nil, nil
}
