package opener

import (
	"fmt"
	"io"
	"net"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// sshAgent is the socket of an SSH agent.
type sshAgent string

func (a sshAgent) dial() (net.Conn, error) {
	conn, err := net.Dial("unix", string(a))
	if err != nil {
		return nil, fmt.Errorf("ask the SSH agent: %w", err)
	}
	return conn, nil
}

// keys are the keys that the agent holds; each asks the agent again when it signs,
// over a connection of its own.
func (a sshAgent) keys() ([]ssh.Signer, error) {
	conn, err := a.dial()
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	keys, err := agent.NewClient(conn).List()
	if err != nil {
		return nil, fmt.Errorf("ask the SSH agent: %w", err)
	}
	var signers []ssh.Signer
	for _, k := range keys {
		signers = append(signers, agentKey{k, a})
	}
	return signers, nil
}

// agentKey is a key that the SSH agent holds and signs with.
type agentKey struct {
	*agent.Key
	agent sshAgent
}

// PublicKey implements ssh.Signer.
func (k agentKey) PublicKey() ssh.PublicKey { return k.Key }

// Sign implements ssh.Signer.
func (k agentKey) Sign(r io.Reader, data []byte) (*ssh.Signature, error) {
	return k.SignWithAlgorithm(r, data, "")
}

// SignWithAlgorithm implements ssh.AlgorithmSigner, which RSA keys need for
// anything but SHA-1.
func (k agentKey) SignWithAlgorithm(_ io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	conn, err := k.agent.dial()
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	var flags agent.SignatureFlags
	switch algorithm {
	case ssh.KeyAlgoRSASHA256:
		flags = agent.SignatureFlagRsaSha256
	case ssh.KeyAlgoRSASHA512:
		flags = agent.SignatureFlagRsaSha512
	}
	return agent.NewClient(conn).SignWithFlags(k.Key, data, flags)
}
