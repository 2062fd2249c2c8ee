package place

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"syscall"

	"github.com/pkg/sftp"
	"github.com/spf13/afero"
	"golang.org/x/crypto/ssh"
)

func startSFTP(s *Server, o Options, files afero.Fs) error {
	signer, err := hostKey(o.Keys)
	if err != nil {
		return err
	}
	config := &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if o.letIn(c.User(), string(password)) {
			return nil, nil
		}
		return nil, errors.New("not let in")
	}}
	config.AddHostKey(signer)
	s.Fingerprint = ssh.FingerprintSHA256(signer.PublicKey())
	s.Address = fmt.Sprintf("sftp://%s@%s/", o.User, s.listener.Addr())
	s.until(func(context.Context) {
		for {
			c, err := s.listener.Accept()
			if err != nil {
				return
			}
			go serveSSH(c, config, files)
		}
	})
	return nil
}

// hostKey reads the place's key from a folder, or makes one there.
func hostKey(dir string) (ssh.Signer, error) {
	file := filepath.Join(dir, "host_key")
	if data, err := os.ReadFile(file); err == nil && dir != "" {
		return ssh.ParsePrivateKey(data)
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	if dir != "" {
		block, err := ssh.MarshalPrivateKey(key, "stand-in")
		if err != nil {
			return nil, err
		}
		if err := errors.Join(os.MkdirAll(dir, 0o700), os.WriteFile(file, pem.EncodeToMemory(block), 0o600)); err != nil {
			return nil, err
		}
	}
	return ssh.NewSignerFromKey(key)
}

func serveSSH(c net.Conn, config *ssh.ServerConfig, files afero.Fs) {
	defer c.Close()
	_, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for offered := range channels {
		if offered.ChannelType() != "session" {
			_ = offered.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		channel, requests, err := offered.Accept()
		if err != nil {
			return
		}
		go serveSession(channel, requests, files)
	}
}

func serveSession(channel ssh.Channel, requests <-chan *ssh.Request, files afero.Fs) {
	for r := range requests {
		ok := r.Type == "subsystem" && len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp"
		_ = r.Reply(ok, nil)
		if ok {
			h := &sftpFiles{files}
			go func() {
				server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
				_ = server.Serve()
				_ = channel.Close()
			}()
		}
	}
}

// sftpFiles answers SFTP from a file system.
type sftpFiles struct{ fs afero.Fs }

// Fileread implements sftp.FileReader.
func (h *sftpFiles) Fileread(r *sftp.Request) (io.ReaderAt, error) { return h.fs.Open(r.Filepath) }

// status words an error of a file system as SFTP has it.
func status(err error) error {
	if errors.Is(err, fs.ErrPermission) {
		return sftp.ErrSSHFxPermissionDenied
	}
	return err
}

// Filewrite implements sftp.FileWriter.
func (h *sftpFiles) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flag := os.O_RDWR | os.O_CREATE
	if r.Pflags().Trunc {
		flag |= os.O_TRUNC
	}
	f, err := h.fs.OpenFile(r.Filepath, flag, 0o600)
	if err != nil {
		return nil, status(err)
	}
	return &roomy{f}, nil
}

// roomy words a full disk as SFTP has it: as text.
type roomy struct{ afero.File }

func (f *roomy) WriteAt(p []byte, at int64) (int, error) {
	n, err := f.File.WriteAt(p, at)
	if errors.Is(err, syscall.ENOSPC) {
		err = fmt.Errorf("no space left on device: %w", sftp.ErrSSHFxFailure)
	}
	return n, err
}

// Filecmd implements sftp.FileCmder.
func (h *sftpFiles) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Rename", "PosixRename":
		return status(h.fs.Rename(r.Filepath, r.Target))
	case "Rmdir", "Remove":
		return status(h.fs.Remove(r.Filepath))
	case "Mkdir":
		return h.fs.Mkdir(r.Filepath, 0o700)
	case "Setstat":
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename implements sftp.PosixRenameFileCmder.
func (h *sftpFiles) PosixRename(r *sftp.Request) error {
	return status(h.fs.Rename(r.Filepath, r.Target))
}

// Filelist implements sftp.FileLister.
func (h *sftpFiles) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method == "List" {
		dir, err := h.fs.Open(r.Filepath)
		if err != nil {
			return nil, err
		}
		defer dir.Close()
		infos, err := dir.Readdir(-1)
		return listed(infos), err
	}
	var info os.FileInfo
	var err error
	switch lstater, can := h.fs.(afero.Lstater); {
	case r.Method == "Readlink":
		reader, can := h.fs.(afero.LinkReader)
		if !can {
			return nil, sftp.ErrSSHFxOpUnsupported
		}
		var target string
		target, err = reader.ReadlinkIfPossible(r.Filepath)
		return listed{named{nil, target}}, err
	case r.Method == "Lstat" && can:
		info, _, err = lstater.LstatIfPossible(r.Filepath)
	default:
		info, err = h.fs.Stat(r.Filepath)
	}
	return listed{info}, err
}

// Lstat implements sftp.LstatFileLister.
func (h *sftpFiles) Lstat(r *sftp.Request) (sftp.ListerAt, error) { return h.Filelist(r) }

// named is a name alone: how a link's target is given.
type named struct {
	os.FileInfo
	name string
}

// Name implements os.FileInfo.
func (n named) Name() string { return n.name }

type listed []os.FileInfo

// ListAt implements sftp.ListerAt.
func (l listed) ListAt(out []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[at:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}
