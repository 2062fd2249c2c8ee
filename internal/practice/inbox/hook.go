package inbox

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"time"

	"revlet/internal/watch/notify"
)

// HookOptions say what a receiver of webhooks is like.
type HookOptions struct {
	// Listen is its address; the default is a free port on loopback.
	Listen string
	// Secret is what calls are to be signed with; empty asks for no signature.
	Secret string
	// Answer is the status of every answer; 0 means 204.
	Answer int
	// Received is told of each call.
	Received func(Call)
}

// Call is one that was received.
type Call struct {
	Method, Path string
	Body         []byte
	// Signed tells that the signature is right.
	Signed bool
}

// HookServer is a receiver that is running.
type HookServer struct {
	Address string
	server  *http.Server
}

// longestCall bounds the length of a call.
const longestCall = 16 << 20

// StartHook receives webhooks and pings until it is closed. A call whose
// signature is wrong is answered with 401.
func StartHook(o HookOptions) (*HookServer, error) {
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	if o.Answer == 0 {
		o.Answer = http.StatusNoContent
	}
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, err
	}
	s := &HookServer{Address: "http://" + l.Addr().String()}
	s.server = &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(io.LimitReader(r.Body, longestCall))
		if err != nil {
			return
		}
		c := Call{Method: r.Method, Path: r.URL.Path, Body: body}
		c.Signed = o.Secret != "" && r.Header.Get(notify.SignatureHeader) == notify.Signature(o.Secret, r.Header.Get(notify.StampHeader), body)
		if o.Received != nil {
			o.Received(c)
		}
		if o.Secret != "" && r.Method == http.MethodPost && !c.Signed {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.WriteHeader(o.Answer)
	})}
	go func() {
		if err := s.server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			_ = l.Close()
		}
	}()
	return s, nil
}

// Close ends the receiver.
func (s *HookServer) Close() error { return s.server.Shutdown(context.Background()) }
