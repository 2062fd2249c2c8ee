package place

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/afero"
)

func startFTP(s *Server, o Options, files afero.Fs) error {
	var security *tls.Config
	if !o.Plain {
		certificate, file, err := Certificate(o.Keys)
		if err != nil {
			return err
		}
		s.CAFile = file
		security = &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}
	}
	s.Address = fmt.Sprintf("ftp://%s@%s/", o.User, s.listener.Addr())
	s.until(func(context.Context) {
		for {
			c, err := s.listener.Accept()
			if err != nil {
				return
			}
			f := &ftpSession{o: o, fs: files, tls: security, conns: s.listener.(*listener).conns, dir: "/"}
			go f.serve(c)
		}
	})
	return nil
}

// ftpSession is one control connection (RFC 959, with RFC 2428, 3659 and 4217
// as far as clients use them).
type ftpSession struct {
	o       Options
	fs      afero.Fs
	tls     *tls.Config
	conns   *connections
	control net.Conn
	in      *bufio.Reader
	user    string
	inside  bool
	private bool // data connections are inside TLS
	dir     string
	from    string
	rest    int64
	data    net.Listener
}

func (f *ftpSession) say(code int, format string, args ...any) {
	fmt.Fprintf(f.control, "%d %s\r\n", code, fmt.Sprintf(format, args...))
}

func (f *ftpSession) serve(c net.Conn) {
	f.control, f.in = c, bufio.NewReader(c)
	defer func() { _ = f.control.Close() }()
	defer f.closeData()
	f.say(220, "a stand-in, for practice")
	for {
		line, err := f.in.ReadString('\n')
		if err != nil {
			return
		}
		verb, arg, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		if !f.answer(strings.ToUpper(verb), arg) {
			return
		}
	}
}

// answer carries out one command; false ends the session.
func (f *ftpSession) answer(verb, arg string) bool {
	switch verb {
	case "QUIT":
		f.say(221, "goodbye")
		return false
	case "AUTH":
		if f.tls == nil || strings.ToUpper(arg) != "TLS" {
			f.say(502, "no TLS here")
			return true
		}
		f.say(234, "go ahead")
		f.control = tls.Server(f.control, f.tls)
		f.in = bufio.NewReader(f.control)
	case "PBSZ":
		f.say(200, "0")
	case "PROT":
		f.private = strings.ToUpper(arg) == "P"
		f.say(200, "so be it")
	case "FEAT":
		fmt.Fprint(f.control, "211-features\r\n SIZE\r\n MLST type*;size*;modify*;\r\n REST STREAM\r\n EPSV\r\n211 end\r\n")
	case "USER":
		f.user = arg
		f.say(331, "and the password")
	case "PASS":
		if f.inside = f.o.letIn(f.user, arg); f.inside {
			f.say(230, "come in")
		} else {
			f.say(530, "not let in")
		}
	case "OPTS", "NOOP", "TYPE":
		f.say(200, "fine")
	default:
		if !f.inside {
			f.say(530, "log in first")
			return true
		}
		f.work(verb, arg)
	}
	return true
}

func (f *ftpSession) path(arg string) string {
	if !strings.HasPrefix(arg, "/") {
		arg = path.Join(f.dir, arg)
	}
	return path.Clean(arg)
}

// settled words the outcome of a command on files.
func (f *ftpSession) settled(err error, code int, what string) {
	switch {
	case err == nil:
		f.say(code, "%s", what)
	case isFull(err):
		f.say(552, "no space left")
	default:
		f.say(550, "%v", err)
	}
}

func (f *ftpSession) work(verb, arg string) {
	name := f.path(arg)
	switch verb {
	case "PWD":
		f.say(257, "%q", f.dir)
	case "CWD":
		info, err := f.fs.Stat(name)
		if err == nil && !info.IsDir() {
			err = errors.New("not a folder")
		}
		if err == nil {
			f.dir = name
		}
		f.settled(err, 250, "there")
	case "MKD":
		f.settled(f.fs.Mkdir(name, 0o700), 257, strconv.Quote(name))
	case "RMD", "DELE":
		f.settled(f.fs.Remove(name), 250, "gone")
	case "RNFR":
		_, err := f.fs.Stat(name)
		f.from = name
		f.settled(err, 350, "to what")
	case "RNTO":
		f.settled(f.fs.Rename(f.from, name), 250, "renamed")
	case "SIZE":
		info, err := f.fs.Stat(name)
		if err == nil && info.IsDir() {
			err = errors.New("a folder")
		}
		if err != nil {
			f.settled(err, 0, "")
			return
		}
		f.say(213, "%d", info.Size())
	case "REST":
		f.rest, _ = strconv.ParseInt(arg, 10, 64)
		f.say(350, "from there")
	case "EPSV", "PASV":
		f.listen(verb)
	case "STOR":
		f.store(name)
	case "RETR":
		f.retrieve(name)
	case "LIST":
		_, folder, _ := strings.Cut(arg, "-a") // as servers that hand it to ls take it
		f.list(f.path(strings.TrimSpace(folder)), lsLine)
	case "MLSD":
		f.list(name, factsLine)
	case "MLST":
		info, err := f.fs.Stat(name)
		if err != nil {
			f.settled(err, 0, "")
			return
		}
		fmt.Fprintf(f.control, "250-of this\r\n %s\r\n250 end\r\n", strings.TrimRight(factsLine(info), "\r\n"))
	default:
		f.say(502, "not known here")
	}
}

// listen opens a port on loopback for one data connection.
func (f *ftpSession) listen(verb string) {
	f.closeData()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		f.say(425, "%v", err)
		return
	}
	f.data = &listener{l, f.o.Faults, f.conns}
	port := l.Addr().(*net.TCPAddr).Port
	if verb == "EPSV" {
		f.say(229, "here (|||%d|)", port)
	} else {
		f.say(227, "here (127,0,0,1,%d,%d)", port>>8, port&255)
	}
}

func (f *ftpSession) closeData() {
	if f.data != nil {
		_ = f.data.Close()
		f.data = nil
	}
}

// transfer runs work on the data connection and says how it ended.
func (f *ftpSession) transfer(work func(net.Conn) error) {
	defer func() { f.rest = 0 }()
	if f.data == nil {
		f.say(425, "no data connection")
		return
	}
	f.say(150, "now")
	_ = f.data.(*listener).Listener.(*net.TCPListener).SetDeadline(time.Now().Add(20 * time.Second))
	c, err := f.data.Accept()
	f.closeData()
	if err != nil {
		f.say(425, "%v", err)
		return
	}
	if f.private {
		private := tls.Server(c, f.tls)
		c, err = private, private.Handshake() // there may be nothing to send
	}
	if err == nil {
		err = work(c)
	}
	err = errors.Join(err, c.Close())
	switch {
	case isFull(err):
		f.say(552, "no space left")
	case err != nil:
		f.say(426, "broken off: %v", strings.ReplaceAll(err.Error(), "\n", "; "))
	default:
		f.say(226, "done")
	}
}

func (f *ftpSession) store(name string) {
	flag := os.O_RDWR | os.O_CREATE
	if f.rest == 0 {
		flag |= os.O_TRUNC
	}
	file, err := f.fs.OpenFile(name, flag, 0o600)
	if err == nil {
		_, err = file.Seek(f.rest, io.SeekStart)
	}
	if err != nil {
		f.closeData()
		f.settled(err, 0, "")
		return
	}
	f.transfer(func(c net.Conn) error {
		_, err := io.Copy(file, c)
		return errors.Join(err, file.Close())
	})
}

func (f *ftpSession) retrieve(name string) {
	file, err := f.fs.Open(name)
	if err == nil {
		_, err = file.Seek(f.rest, io.SeekStart)
	}
	if err != nil {
		f.closeData()
		f.settled(err, 0, "")
		return
	}
	defer file.Close()
	f.transfer(func(c net.Conn) error {
		_, err := io.Copy(c, file)
		return err
	})
}

// lsLine is a line of LIST, factsLine one of MLSD.
func lsLine(i os.FileInfo) string {
	return fmt.Sprintf("%s 1 keeper keeper %d %s %s", i.Mode(), i.Size(), i.ModTime().UTC().Format("Jan _2  2006"), i.Name())
}

func factsLine(i os.FileInfo) string {
	kind := "file"
	if i.IsDir() {
		kind = "dir"
	}
	return fmt.Sprintf("type=%s;size=%d;modify=%s; %s", kind, i.Size(), i.ModTime().UTC().Format("20060102150405"), i.Name())
}

// followed is what a link leads to, under the link's name.
type followed struct {
	os.FileInfo
	name string
}

// Name implements os.FileInfo.
func (f followed) Name() string { return f.name }

func (f *ftpSession) list(name string, line func(os.FileInfo) string) {
	dir, err := f.fs.Open(name)
	var infos []os.FileInfo
	if err == nil {
		infos, err = dir.Readdir(-1)
		_ = dir.Close()
	}
	if err != nil {
		f.closeData()
		f.settled(err, 0, "")
		return
	}
	f.transfer(func(c net.Conn) error {
		w := bufio.NewWriter(c)
		for _, i := range infos {
			if i.Mode()&os.ModeSymlink != 0 { // told as what it leads to, as servers do that know no links
				to, err := f.fs.Stat(path.Join(name, i.Name()))
				if err != nil {
					continue
				}
				i = followed{to, i.Name()}
			}
			fmt.Fprintf(w, "%s\r\n", line(i))
		}
		return w.Flush()
	})
}
