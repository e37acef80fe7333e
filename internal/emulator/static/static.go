// Package static is a web server for a folder of files.
package static

import (
	"context"
	"errors"
	"io/fs"
	"log"
	"net"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/localname"
	"neighbour/internal/core/machine/webroot"
)

// Options say how a folder is served.
type Options struct {
	// Root is the folder. Nothing outside it is served, not even through
	// links.
	Root string
	// Fallback is the file served for addresses that are no file's, for
	// programs in the page that read the address themselves; "" is none.
	Fallback string
	// Listing shows folders without an index.html as a list.
	Listing bool
	// Hosts are names that the server is asked by beside those of this machine:
	// a page from elsewhere that has its own name lead here is not answered.
	Hosts []string
	// Ready is an address that is answered with 204 and not logged; "": none.
	Ready string
	// Misbehave says what it does wrong; nil: nothing.
	Misbehave *misbehave.Follower
}

// Serve serves the folder by HTTP on the listener until the context ends.
// Each request is written to the log.
func Serve(ctx context.Context, l net.Listener, o Options, log *log.Logger) error {
	h, err := Handler(o)
	if err != nil {
		return err
	}
	server := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !localname.Is(r.Host, o.Hosts...) {
			http.Error(w, "421 this server answers names of this machine only; a declaration names others with hosts", http.StatusMisdirectedRequest)
			return
		}
		if o.Ready != "" && r.URL.Path == o.Ready {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		s := &statusWriter{ResponseWriter: w, status: http.StatusOK}
		defer func() { log.Printf("%d %s %s", s.status, r.Method, r.URL.RequestURI()) }()
		behave(h, o.Misbehave.Rules(), s, r)
	})}
	stopped := context.AfterFunc(ctx, func() {
		grace, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		if server.Shutdown(grace) != nil {
			server.Close()
		}
	})
	defer stopped()
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// behave answers as the rules say.
func behave(h http.Handler, rules misbehave.Rules, w http.ResponseWriter, r *http.Request) {
	wait, fate := rules.Draw()
	misbehave.Wait(r.Context(), wait)
	if rules.Clock != 0 {
		w.Header().Set("Date", time.Now().Add(rules.Clock).UTC().Format(http.TimeFormat))
	}
	switch fate {
	case misbehave.Failed:
		http.Error(w, "500 an error that this server was told to answer with", http.StatusInternalServerError)
	case misbehave.Throttled:
		w.Header().Set("Retry-After", "1")
		http.Error(w, "429 too many requests, as this server was told to say", http.StatusTooManyRequests)
	case misbehave.Cut:
		h.ServeHTTP(misbehave.CutOff(w), r)
	default:
		h.ServeHTTP(w, r)
	}
}

type statusWriter struct {
	http.ResponseWriter
	status int
}

func (s *statusWriter) Unwrap() http.ResponseWriter { return s.ResponseWriter }

func (s *statusWriter) WriteHeader(code int) {
	s.status = code
	s.ResponseWriter.WriteHeader(code)
}

// Handler serves the folder; it fails if there is none.
func Handler(o Options) (http.Handler, error) {
	root, err := os.OpenRoot(o.Root)
	if err != nil {
		return nil, err
	}
	files := visible{root.FS()}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		// While one works on them, files change: nothing is to be remembered.
		w.Header().Set("Cache-Control", "no-store")
		name := strings.TrimPrefix(path.Clean("/"+r.URL.Path), "/")
		if name == "" {
			name = "."
		}
		if webroot.Hidden(name) {
			http.Error(w, "403 "+r.URL.Path+" is never served", http.StatusForbidden)
			return
		}
		info, err := fs.Stat(files, name)
		bare := err == nil && info.IsDir() && !o.Listing && !isFile(files, path.Join(name, "index.html"))
		if err == nil && !bare {
			server.ServeHTTP(w, r)
			return
		}
		if o.Fallback != "" && path.Ext(name) == "" && (r.Method == http.MethodGet || r.Method == http.MethodHead) {
			http.ServeFileFS(w, r, files, o.Fallback)
			return
		}
		http.Error(w, "404 there is no "+r.URL.Path+" here", http.StatusNotFound)
	}), nil
}

func isFile(files fs.FS, name string) bool {
	info, err := fs.Stat(files, name)
	return err == nil && !info.IsDir()
}

// visible is a folder without what is never served.
type visible struct{ fs.FS }

// Open opens what may be served, and lists folders without the rest.
func (v visible) Open(name string) (fs.File, error) {
	if webroot.Hidden(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	f, err := v.FS.Open(name)
	if err != nil {
		return nil, err
	}
	if dir, ok := f.(fs.ReadDirFile); ok {
		if info, err := f.Stat(); err == nil && info.IsDir() {
			return folder{dir}, nil
		}
	}
	return f, nil
}

type folder struct{ fs.ReadDirFile }

func (f folder) ReadDir(n int) ([]fs.DirEntry, error) {
	entries, err := f.ReadDirFile.ReadDir(n)
	return slices.DeleteFunc(entries, func(e fs.DirEntry) bool { return webroot.Hidden(e.Name()) }), err
}
