package server

import (
	"mime"
	"net/http"

	"github.com/klauspost/compress/gzhttp"
)

// longJSON is from which length on JSON is compressed, in bytes. Below it a packet or two are saved, which no one notices.
const longJSON = 8 << 10

// compressed has long answers in JSON sent with gzip to those who take it: lists of the console, and contents of
// exchanges. Streams are left as they are, since each of their events has to arrive when it is written; so are answers
// that come compressed already.
func compressed(h http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(longJSON), gzhttp.ContentTypeFilter(func(kind string) bool {
		media, _, err := mime.ParseMediaType(kind)
		return err == nil && media == "application/json"
	}))
	if err != nil {
		panic(err) // the options are constants
	}
	return wrap(h)
}
