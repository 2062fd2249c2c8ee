// Package sshtest runs SSH servers that tests tell what to answer. They let everybody in.
package sshtest

import (
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"net"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Server says what a server does.
type Server struct {
	// Subsystem serves a session once a subsystem was asked for.
	Subsystem func(ssh.Channel)
	// Run serves a command; nil refuses commands.
	Run func(command string, channel ssh.Channel)
}

// Start runs the server on the loopback address until the test ends, and returns where.
// Connections are forwarded.
func Start(t *testing.T, s Server) (address string) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	config := &ssh.ServerConfig{NoClientAuth: true}
	config.AddHostKey(signer)
	at, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = at.Close() })
	go func() {
		for {
			c, err := at.Accept()
			if err != nil {
				return
			}
			go s.serve(c, config)
		}
	}()
	return at.Addr().String()
}

func (s Server) serve(c net.Conn, config *ssh.ServerConfig) {
	_, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for offered := range channels {
		if offered.ChannelType() == "direct-tcpip" {
			forward(offered)
			continue
		}
		channel, asked, err := offered.Accept()
		if err != nil {
			return
		}
		go s.session(channel, asked)
	}
}

func (s Server) session(channel ssh.Channel, asked <-chan *ssh.Request) {
	for r := range asked {
		switch {
		case r.Type == "exec" && s.Run != nil:
			_ = r.Reply(true, nil)
			s.Run(string(r.Payload[4:]), channel)
			_ = channel.Close()
		case r.Type == "subsystem":
			_ = r.Reply(true, nil)
			go s.Subsystem(channel)
		default:
			_ = r.Reply(false, nil)
		}
	}
}

// forward leads to an address, as in RFC 4254, 7.2.
func forward(offered ssh.NewChannel) {
	var to struct {
		Host   string
		Port   uint32
		From   string
		Origin uint32
	}
	_ = ssh.Unmarshal(offered.ExtraData(), &to)
	out, err := net.Dial("tcp", net.JoinHostPort(to.Host, strconv.Itoa(int(to.Port))))
	if err != nil {
		_ = offered.Reject(ssh.ConnectionFailed, "nobody there")
		return
	}
	channel, asked, err := offered.Accept()
	if err != nil {
		return
	}
	go ssh.DiscardRequests(asked)
	go func() {
		_, _ = io.Copy(out, channel)
		_ = out.Close()
	}()
	go func() {
		_, _ = io.Copy(channel, out)
		_ = channel.Close()
	}()
}
