// Package s3 keeps archives in a bucket behind the S3 object API.
package s3

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"revlet/internal/store"
)

// Options say where the bucket is and how to get in.
type Options struct {
	// Endpoint is host:port; Secure says whether it is spoken to over TLS.
	Endpoint string
	Secure   bool
	Bucket   string
	// Prefix begins the names of all objects.
	Prefix            string
	Region            string
	AccessKey, Secret string
	// HostStyle puts the bucket's name into the host's.
	HostStyle bool
	// Lock is for how long the bucket's object lock holds what is written, in governance
	// mode or, with Compliance, in a mode that nobody can lift; 0 is not at all.
	Lock       time.Duration
	Compliance bool
	Transport  http.RoundTripper
	// Lanes is the most requests at a time.
	Lanes int
	// AppendOnly is for an account that may neither delete nor overwrite: nothing is asked
	// for that the far end would refuse. See package appendonly.
	AppendOnly bool
	Where      string
}

// Store is a prefix in a bucket.
type Store struct {
	o     Options
	c     *minio.Client
	lanes chan struct{}
}

// piece is the size of the pieces of a multipart upload.
const piece = 16 << 20

// New returns the store; nothing is sent yet.
func New(o Options) (*Store, error) {
	style := minio.BucketLookupPath
	if o.HostStyle {
		style = minio.BucketLookupDNS
	}
	c, err := minio.New(o.Endpoint, &minio.Options{Creds: credentials.NewStaticV4(o.AccessKey, o.Secret, ""), Secure: o.Secure,
		Region: o.Region, BucketLookup: style, Transport: o.Transport, MaxRetries: 1, TrailingHeaders: false})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", o.Where, err)
	}
	return &Store{o: o, c: c, lanes: make(chan struct{}, max(o.Lanes, 1))}, nil
}

func (s *Store) do(ctx context.Context, name string, work func() error) error {
	select {
	case s.lanes <- struct{}{}:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	defer func() { <-s.lanes }()
	err := work()
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return s.explain(name, err)
}

func (s *Store) explain(name string, err error) error {
	if err == nil {
		return nil
	}
	answer := minio.ToErrorResponse(err)
	switch answer.Code {
	case "NoSuchKey", "NoSuchUpload":
		return store.Missing(name)
	case "NoSuchBucket":
		return store.Refuse("there is no bucket %q at %s; make it first", s.o.Bucket, s.o.Endpoint)
	case "AccessDenied", "InvalidAccessKeyId", "SignatureDoesNotMatch", "AllAccessDisabled", "AuthorizationHeaderMalformed", "PermanentRedirect", "InvalidBucketName":
		return store.Refuse("%s: %s (%s); check `access_key:`, the secret, `region:` and the bucket's policy", s.o.Where, answer.Message, answer.Code)
	case "QuotaExceeded", "XMinioStorageFull", "EntityTooLarge", "InsufficientCapacity":
		return fmt.Errorf("%s: %w at %s (%s)", name, store.ErrFull, s.o.Where, answer.Message)
	}
	if answer.StatusCode == http.StatusNotFound {
		return store.Missing(name)
	}
	if answer.StatusCode == http.StatusInsufficientStorage {
		return fmt.Errorf("%s: %w at %s", name, store.ErrFull, s.o.Where)
	}
	return store.HTTPError(s.o.Where, err)
}

func (s *Store) key(name string) string { return path.Join(s.o.Prefix, name) }

// below is the prefix of every key in a folder.
func (s *Store) below(dir string) string {
	if key := s.key(dir); key != "" && key != "." {
		return key + "/"
	}
	return ""
}

// name takes a key's prefix off.
func (s *Store) name(key string) string {
	if s.o.Prefix == "" {
		return key
	}
	return strings.TrimPrefix(key, s.o.Prefix+"/")
}

// Where implements store.Store.
func (s *Store) Where() string { return s.o.Where }

// Offsite implements store.Store.
func (s *Store) Offsite() bool { return true }

// Close implements store.Store.
func (s *Store) Close() error {
	if t, ok := s.o.Transport.(interface{ CloseIdleConnections() }); ok {
		t.CloseIdleConnections()
	}
	return nil
}

// Check implements store.Store.
func (s *Store) Check(ctx context.Context) error {
	if s.o.AppendOnly {
		return s.do(ctx, "the bucket", func() error {
			there, err := s.c.BucketExists(ctx, s.o.Bucket)
			if err == nil && !there {
				err = store.Refuse("there is no bucket %q at %s; make it first", s.o.Bucket, s.o.Endpoint)
			}
			return err
		})
	}
	probe := path.Join(store.Incoming, "probe-"+store.Token())
	return s.do(ctx, "the bucket", func() error {
		if err := s.put(ctx, probe, strings.NewReader("probe"), 5); err != nil {
			return err
		}
		if err := s.c.RemoveObject(ctx, s.o.Bucket, s.key(probe), minio.RemoveObjectOptions{}); minio.ToErrorResponse(err).Code == "AccessDenied" {
			return store.NoDeletion(err)
		} else if err != nil {
			return err
		}
		return s.clear(ctx)
	})
}

// clear ends uploads in pieces that a run that died has left: they cost room.
// That an account may not list them is no reason to refuse the store.
func (s *Store) clear(ctx context.Context) error {
	for up := range s.c.ListIncompleteUploads(ctx, s.o.Bucket, s.below(""), true) {
		if up.Err != nil {
			return nil
		}
		if time.Since(up.Initiated) > store.Stale {
			_ = s.c.RemoveIncompleteUpload(ctx, s.o.Bucket, up.Key)
		}
	}
	return nil
}

func (s *Store) put(ctx context.Context, name string, src io.Reader, size int64) error {
	o := minio.PutObjectOptions{ContentType: "application/octet-stream", PartSize: piece, NumThreads: 1, SendContentMd5: true, DisableContentSha256: s.o.Secure}
	if s.o.AppendOnly {
		o.SetMatchETagExcept("*")
	}
	if s.o.Lock > 0 {
		o.Mode, o.RetainUntilDate = s.lockMode(), time.Now().Add(s.o.Lock)
	}
	_, err := s.c.PutObject(ctx, s.o.Bucket, s.key(name), src, size, o)
	if minio.ToErrorResponse(err).Code == "PreconditionFailed" {
		return fmt.Errorf("%s is there already: %w", name, store.ErrKeeper)
	}
	return err
}

func (s *Store) lockMode() minio.RetentionMode {
	if s.o.Compliance {
		return minio.Compliance
	}
	return minio.Governance
}

// Protect implements store.Store: the bucket's object lock holds the object for as long,
// from now on.
func (s *Store) Protect(ctx context.Context, name string) error {
	if s.o.Lock <= 0 {
		return nil
	}
	mode, until := s.lockMode(), time.Now().Add(s.o.Lock)
	return s.do(ctx, name, func() error {
		return s.c.PutObjectRetention(ctx, s.o.Bucket, s.key(name), minio.PutObjectRetentionOptions{Mode: &mode, RetainUntilDate: &until})
	})
}

// Put implements store.Store. The API makes an object appear whole or not at
// all; large ones go in pieces, each with a checksum that the server compares.
func (s *Store) Put(ctx context.Context, name string, src io.ReadSeeker, size int64) error {
	return s.do(ctx, name, func() error { return s.put(ctx, name, src, size) })
}

// Open implements store.Store.
func (s *Store) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	var in io.ReadCloser
	err := s.do(ctx, name, func() error {
		o := minio.GetObjectOptions{}
		if offset > 0 {
			if err := o.SetRange(offset, 0); err != nil {
				return err
			}
		}
		core := minio.Core{Client: s.c}
		body, _, _, err := core.GetObject(ctx, s.o.Bucket, s.key(name), o)
		in = body
		if minio.ToErrorResponse(err).Code == "InvalidRange" && offset > 0 {
			in, err = http.NoBody, nil // it ends right there
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return in, nil
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (info store.Info, err error) {
	err = s.do(ctx, name, func() error {
		o, err := s.c.StatObject(ctx, s.o.Bucket, s.key(name), minio.StatObjectOptions{})
		info = store.Info{Name: name, Bytes: o.Size, Changed: o.LastModified}
		return err
	})
	return info, err
}

// list visits every object below dir, or directly in it.
func (s *Store) list(ctx context.Context, dir string, deep bool, visit func(minio.ObjectInfo)) error {
	return s.do(ctx, dir, func() error {
		n, names := 0, store.Names{}
		for o := range s.c.ListObjects(ctx, s.o.Bucket, minio.ListObjectsOptions{Prefix: s.below(dir), Recursive: deep}) {
			if o.Err != nil {
				return o.Err
			}
			if n++; n%500 == 1 {
				store.Alive(ctx)
			}
			if err := names.Another(dir); err != nil {
				return err
			}
			visit(o)
		}
		return nil
	})
}

// List implements store.Store.
func (s *Store) List(ctx context.Context, dir string) (all []store.Info, err error) {
	err = s.list(ctx, dir, true, func(o minio.ObjectInfo) {
		name := s.name(o.Key) // the far end may name what was not asked for
		if strings.HasPrefix(o.Key, s.below(dir)) && fs.ValidPath(name) && !strings.HasPrefix(name, ".") && !strings.Contains(name, "/.") {
			all = append(all, store.Info{Name: name, Bytes: o.Size, Changed: o.LastModified})
		}
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return all, err
}

// Folders implements store.Store.
func (s *Store) Folders(ctx context.Context, dir string) (names []string, err error) {
	err = s.list(ctx, dir, false, func(o minio.ObjectInfo) {
		if name, ok := strings.CutSuffix(o.Key, "/"); ok && !strings.HasPrefix(path.Base(name), ".") {
			names = append(names, path.Base(name))
		}
	})
	return names, err
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, name string) error {
	err := s.do(ctx, name, func() error {
		return s.c.RemoveObject(ctx, s.o.Bucket, s.key(name), minio.RemoveObjectOptions{})
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}
