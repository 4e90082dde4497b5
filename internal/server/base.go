package server

import (
	"bytes"
	"net/http"
	"strings"

	"github.com/go-json-experiment/json"
)

// probes are answered with and without the base path: whoever asks for them asks the service
// itself, and not a proxy before it.
var probes = map[string]bool{"/livez": true, "/readyz": true, "/metrics": true}

// under answers what is asked for under the service's base path, as if there were none.
func (s *Server) under(base string, next http.Handler) http.Handler {
	stripped := http.StripPrefix(base, next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch at := r.URL.Path; {
		case strings.HasPrefix(at, base+"/"):
			stripped.ServeHTTP(w, r)
		case at == base:
			to := base + "/"
			if r.URL.RawQuery != "" {
				to += "?" + r.URL.RawQuery
			}
			http.Redirect(w, r, to, http.StatusPermanentRedirect)
		case probes[at]:
			next.ServeHTTP(w, r)
		default:
			body, _ := json.Marshal(problem{Type: "about:blank", Title: http.StatusText(http.StatusNotFound), Status: http.StatusNotFound,
				Detail: "this service answers under " + base + "/ (base_path); a proxy before it has to pass the path on as it is"}, out)
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			w.Write(append(body, '\n'))
		}
	})
}

// based writes the description of the API, or the console's page, for the base path.
func (s *Server) based(text []byte) []byte {
	if s.opts.BasePath == "" {
		return text
	}
	return bytes.ReplaceAll(text, []byte("http://127.0.0.1:6853"), []byte(s.opts.BasePath))
}

// The console's page names its files relative to itself; each of its pages stands at another
// depth, so that they are named from the base path on.
var (
	relativeMark = []byte(`="./`)
	baseMark     = []byte("__BASE__")
)

func (s *Server) basedPage(html []byte) []byte {
	html = bytes.ReplaceAll(html, relativeMark, []byte(`="`+s.opts.BasePath+`/`))
	return bytes.ReplaceAll(html, baseMark, []byte(s.opts.BasePath))
}
