package server

import (
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

// hosts knows the names and addresses that the gate may be called by.
type hosts struct {
	address string // host:port to show to people
	any     bool   // listening on all interfaces
	names   []string
	ips     []net.IP
}

func newHosts(addresses []net.Addr, names []string) *hosts {
	h := &hosts{address: addresses[0].String(), names: []string{"localhost"}}
	for _, n := range names {
		h.names = append(h.names, strings.ToLower(n))
	}
	beyond := false
	for i, addr := range addresses {
		tcp, ok := addr.(*net.TCPAddr)
		if !ok {
			continue // a socket, which pages of strangers cannot reach
		}
		h.ips = append(h.ips, tcp.IP)
		if tcp.IP.IsUnspecified() {
			h.any = true
			if i == 0 {
				h.address = net.JoinHostPort("127.0.0.1", fmt.Sprint(tcp.Port))
			}
		}
		beyond = beyond || !tcp.IP.IsLoopback()
	}
	if beyond {
		if name, err := os.Hostname(); err == nil {
			name = strings.ToLower(name)
			h.names = append(h.names, name, name+".local")
		}
	}
	return h
}

// own reports whether a Host header names this gate. A web page of a stranger whose name was made to point here
// (DNS rebinding) sends that name; an address cannot be forged in this way, but must be the gate's own too.
func (h *hosts) own(header string) bool {
	host, _, err := net.SplitHostPort(header)
	if err != nil {
		host = strings.Trim(header, "[]")
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if slices.Contains(h.names, host) {
		return true
	}
	ip := net.ParseIP(host)
	switch {
	case ip == nil, ip.IsUnspecified(): // nobody's address: pages of strangers use it to reach this computer
		return false
	case ip.IsLoopback(), slices.ContainsFunc(h.ips, ip.Equal):
		return true
	case !h.any:
		return false
	}
	addrs, err := net.InterfaceAddrs()
	return err == nil && slices.ContainsFunc(addrs, func(a net.Addr) bool {
		n, ok := a.(*net.IPNet)
		return ok && n.IP.Equal(ip)
	})
}

// checkHost refuses requests for other hosts. A call with a key is let through, since a page of a stranger has none, and the name of a
// tunnel changes at each start; admit checks the host if the key turns out not to be valid.
func (s *Server) checkHost(c *gin.Context) {
	path := c.Request.URL.Path
	if strings.HasPrefix(path, "/v1/") && (c.GetHeader("Authorization") != "" || !routerOf(c).Open) {
		return
	}
	err := s.knownHost(c)
	if err == nil {
		return
	}
	// What is wrong beside the name is told first: through a tunnel the name alone would hide it. It tells nothing that is of use to a page.
	if wrong := s.misplaced(c); wrong != nil {
		err = wrong
	}
	if path == "/" {
		_ = c.Error(err) // which counts it, as for other paths
		c.Abort()
		c.String(http.StatusMisdirectedRequest, "A Kindred Gate is here, but it is not called %s. If it should be, add that name to host_names in its configuration.\n", cleanHost(c.Request.Host))
		return
	}
	fail(c, err)
}

// cleanHost is what a client called the gate, as far as that can be a host.
func cleanHost(host string) string {
	if host == "" || len(host) > longHost || strings.ContainsFunc(host, func(r rune) bool { return r <= ' ' || r > '~' }) {
		return "that"
	}
	return host
}

// longHost is how long the name of a host is, with a port (RFC 1035, section 2.3.4), in bytes.
const longHost = 253 + 6

// baseOf is the base URL for a caller: what is set up, or else the address by which the caller came, since a loopback address is of no use to
// somebody who is elsewhere.
func baseOf(c *gin.Context) string {
	r := routerOf(c)
	host := c.Request.Host
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = strings.Trim(host, "[]")
	}
	ip := net.ParseIP(name)
	if r.BaseURL != "" || host == "" || cleanHost(host) != host || name == "localhost" || ip != nil && ip.IsLoopback() {
		return r.base
	}
	scheme := "http"
	if encrypted(c) || ip == nil && c.GetHeader("X-Forwarded-Proto") == "https" {
		scheme = "https"
	}
	return scheme + "://" + host + r.prefix + "/v1"
}

func (s *Server) knownHost(c *gin.Context) error {
	if routerOf(c).hosts.own(c.Request.Host) {
		return nil
	}
	return exchange.Errorf(exchange.Misdirected, "unknown_host",
		"the request is for host %q, which is not a name of this gate; if it should be, add it to host_names in the configuration", c.Request.Host)
}

// onlyApplications keeps what is not for applications away from listeners that are for them alone.
func (s *Server) onlyApplications(all []route) gin.HandlerFunc {
	open := map[string]bool{}
	for _, one := range all {
		open[one.method+" "+one.path] = one.who == everyone || one.who == applications || one.who == asking
	}
	return func(c *gin.Context) {
		if c.Request.Context().Value(listenerKey{}) == nil || open[c.Request.Method+" "+c.FullPath()] {
			return
		}
		path := c.Request.URL.Path
		if c.FullPath() == "" && strings.HasPrefix(path, "/v1/") {
			return // there is no such path, which it is told
		}
		fail(c, exchange.Errorf(exchange.NotFound, "not_offered_here", "%s is not offered at this address, which is for applications only (network.only_applications); the base URL for them is %s", path, baseOf(c)))
	}
}

// sessionCookie is the name of the console's cookie.
const sessionCookie = "kindred_session"

// Callers that have no key of their own. Their names are no identifiers of keys, which have another length.
var (
	console = keyring.Key{ID: "console", Terms: keyring.Terms{Label: "console"}, Owner: true}
	anyone  = keyring.Key{ID: "anyone", Terms: keyring.Terms{Label: "anyone"}} // who uses a gate with open access
)

// caller finds out who asks: by the key, or by the session of a console.
func (s *Server) caller(c *gin.Context) (keyring.Key, error) {
	header := c.GetHeader("Authorization")
	if header == "" {
		if token, err := c.Cookie(sessionCookie); err == nil {
			if err := routerOf(c).origins.Check(c.Request); err != nil {
				return keyring.Key{}, exchange.Errorf(exchange.Forbidden, "cross_origin", "a page of another origin used the console's session")
			}
			if err := s.Gate.Keys.CheckSession(c.Request.Context(), token); err != nil {
				return keyring.Key{}, err
			}
			return console, nil
		}
	}
	secret, err := bearer(c.Request)
	if err != nil {
		return keyring.Key{}, err
	}
	k, err := s.Gate.Keys.Check(c.Request.Context(), secret)
	if err != nil && secret != "" {
		err = s.failed.slow(c, err)
	}
	if err == nil {
		err = k.MayCome(c.ClientIP(), c.GetHeader("Origin"))
	}
	return k, err
}

// bearer takes the key from the Authorization header (RFC 6750, section 2.1); it is empty if there is none. The error says what is
// wrong with the header, as far as it is one of the ways in which keys are mislaid. What may be a key is not repeated.
func bearer(r *http.Request) (string, error) {
	wrong := func(format string, args ...any) error {
		return exchange.Errorf(exchange.Unauthenticated, "invalid_api_key", format, args...)
	}
	header := strings.TrimSpace(r.Header.Get("Authorization"))
	if header == "" {
		for _, name := range []string{"X-Api-Key", "Api-Key"} {
			if r.Header.Get(name) != "" {
				return "", wrong("the key came in the header %s; it belongs in another: \"Authorization: Bearer kg_…\"", name)
			}
		}
		for _, name := range []string{"key", "api_key", "api-key", "apikey", "token", "access_token"} {
			if r.URL.Query().Has(name) {
				return "", wrong("a key in the address (%s=…) is not taken, since addresses end up in logs and histories; it belongs in the header \"Authorization: Bearer kg_…\"", name)
			}
		}
		return "", nil
	}
	scheme, secret, _ := strings.Cut(header, " ")
	secret = strings.TrimSpace(secret)
	switch {
	case !strings.EqualFold(scheme, "Bearer"):
		return "", wrong("the Authorization header must be \"Bearer kg_…\"%s", insteadOf(scheme))
	case len(secret) >= 6 && strings.EqualFold(secret[:6], "bearer"):
		return "", wrong("the Authorization header says Bearer twice; most clients add the word themselves, so give them the key alone")
	case secret != strings.Trim(secret, "\"'`“”‘’"):
		return "", wrong("the key is in quotation marks; send it without them")
	case strings.ContainsAny(secret, "$%{}<>"):
		return "", wrong("in the place of the key stands the name of a variable that was not filled in; check how the client takes the key from its environment or settings")
	}
	return secret, nil
}

// insteadOf names a scheme of authorization that is not the one that is wanted.
func insteadOf(scheme string) string {
	if i := slices.IndexFunc([]string{"Basic", "Digest", "Negotiate", "Token", "ApiKey"}, func(s string) bool { return strings.EqualFold(s, scheme) }); i >= 0 {
		return fmt.Sprintf(", not %q", scheme)
	}
	return ": the word Bearer, a space, and the key"
}

// admit lets in who may use models.
func (s *Server) admit(c *gin.Context) {
	k, err := s.caller(c)
	if err != nil && routerOf(c).Open && exchange.AsError(err).Kind == exchange.Unauthenticated {
		k, err = anyone, s.near(c)
	}
	if err != nil {
		fail(c, err)
		return
	}
	c.Set(callerKey, k)
}

// near lets in a caller without a key: only under the gate's own address, and not from a page of another origin. Both would let a
// stranger's page use the models through the browser of somebody here.
func (s *Server) near(c *gin.Context) error {
	if err := s.knownHost(c); err != nil {
		return err
	}
	if err := routerOf(c).origins.Check(c.Request); err != nil {
		return exchange.Errorf(exchange.Forbidden, "cross_origin", "a page of another origin asks without a key; add its origin to browser_origins in the configuration, or give it a key")
	}
	return nil
}

// admitLocal lets in who has a key, and programs on this computer. What a proxy passes on is not from this computer, wherever the proxy runs.
func (s *Server) admitLocal(c *gin.Context) {
	ip := net.ParseIP(c.ClientIP())
	for _, name := range []string{"X-Forwarded-For", "Forwarded", "X-Real-Ip", "Via"} {
		if c.GetHeader(name) != "" {
			ip = nil
		}
	}
	if c.GetHeader("Authorization") != "" || ip == nil || !ip.IsLoopback() {
		s.admit(c)
		return
	}
	if err := s.near(c); err != nil {
		fail(c, err)
		return
	}
	c.Set(callerKey, anyone)
}

// ownerOnly lets in who may manage the gate.
func (s *Server) ownerOnly(c *gin.Context) {
	k, err := s.caller(c)
	if err == nil && !k.Owner {
		err = exchange.Errorf(exchange.Forbidden, "owner_key_needed", "%q is a key for applications; managing the gate needs the owner key", k.Label)
	}
	if err != nil {
		fail(c, err)
		return
	}
	c.Set(callerKey, k)
}

// callerOf is who asks, after admit or ownerOnly.
func callerOf(c *gin.Context) keyring.Key {
	return c.MustGet(callerKey).(keyring.Key)
}

// AnyOrigin in the list of a browser's origins stands for all.
const AnyOrigin = "*"

// shareWithBrowsers lets pages of the origins that the owner allows use the gate (Fetch standard, section 3.2, "CORS protocol").
// Pages of others get no leave, so their browsers do not send a key, nor show them an answer.
func (s *Server) shareWithBrowsers(c *gin.Context) {
	if !strings.HasPrefix(c.Request.URL.Path, "/v1/") {
		return
	}
	h := c.Writer.Header()
	h.Add("Vary", "Origin")
	origin := c.GetHeader("Origin")
	if origin == "" {
		return
	}
	allowed := slices.Contains(routerOf(c).BrowserOrigins, origin) || slices.Contains(routerOf(c).BrowserOrigins, AnyOrigin) || s.Gate.Keys.ForPagesOf(c.Request.Context(), origin)
	if allowed {
		h.Set("Access-Control-Allow-Origin", origin)
		h.Set("Access-Control-Expose-Headers", "X-Request-Id, Server-Timing, Retry-After, "+strings.Join(limitHeaderNames, ", ")+", "+droppedHeader)
	}
	if c.Request.Method != http.MethodOptions || c.GetHeader("Access-Control-Request-Method") == "" {
		return
	}
	if !allowed {
		fail(c, exchange.Errorf(exchange.Forbidden, "origin_not_allowed", "pages of %q may not use this gate; if they should, add the origin to browser_origins in the configuration", origin))
		return
	}
	h.Set("Access-Control-Allow-Methods", "GET, POST, DELETE")
	// Clients send headers of their own besides, which are ignored; those that were asked for are let through.
	h.Set("Access-Control-Allow-Headers", c.GetHeader("Access-Control-Request-Headers"))
	h.Set("Access-Control-Max-Age", "600")
	h.Add("Vary", "Access-Control-Request-Headers")
	c.AbortWithStatus(http.StatusNoContent)
}

// Challenges are long enough not to come twice.
const shortChallenge, longChallenge = 16, 128

// prove answers who wants to know, before it sends the owner key, whether this is the gate that it knows.
func (s *Server) prove(c *gin.Context) (any, error) {
	challenge := c.Query("challenge")
	if len(challenge) < shortChallenge || len(challenge) > longChallenge {
		return nil, exchange.InvalidParam("challenge", "challenge must have %d to %d characters", shortChallenge, longChallenge)
	}
	local, ok := c.Request.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if !ok {
		return nil, errors.New("the connection has no local address")
	}
	proof, err := s.Gate.Keys.Proof(c.Request.Context(), challenge, local.String())
	if err != nil {
		return nil, err
	}
	return Proof{hex.EncodeToString(proof)}, nil
}

// Proof is what GET /gate/proof tells: that the gate knows its owner key.
type Proof struct {
	Proof string `json:"proof"` // HMAC-SHA-256, in hexadecimal digits
}
