// Package s3 is the driver for object storage with the S3 interface.
//
// A large file goes up in parts, each signed with its SHA-256, which the
// storage compares; parts that arrived are built on by the next try. A file is
// put in place by a copy inside the storage, completed on condition that
// nothing has the name: the storage then computes a SHA-256 of the whole, which
// is the proof. Within one process two senders never race for one name.
package s3

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/web"
)

// Options say where the storage is and how to sign in.
type Options struct {
	URL      string // http(s)://host[:port]
	Bucket   string
	Path     string // prefix of every object, "" for none
	Region   string
	User     string                 // the access key
	Password func() (string, error) // the secret key; asked at every request
	Web      web.Options
	Stale    time.Duration // the age at which what was begun under a final name was left by somebody dead; 2 h when zero
}

// Driver implements destination.Driver.
type Driver struct {
	o         Options
	host      string
	core      *minio.Core
	transport *web.Transport
	ended     atomic.Int64 // when what was left was last ended, in nanoseconds
	names     atomic.Int32 // whether a name that is taken is heeded as a file is put

	publishing *destination.NameLocks
}

var (
	_ destination.Driver  = (*Driver)(nil)
	_ destination.Resumer = (*Driver)(nil)
	_ destination.Prover  = (*Driver)(nil)
	_ destination.Browser = (*Driver)(nil)
	_ destination.Placer  = (*Driver)(nil)

	_ destination.Connected = (*Driver)(nil)
	_ destination.Stamper   = (*Driver)(nil)
)

const (
	partSize = 5 << 20   // of parts, unless a file then had more than maxParts; no less is allowed
	maxParts = 10_000    // what the interface allows
	maxCopy  = 5 << 30   // the largest part that is copied in one step
	copyPart = 512 << 20 // the size of parts of files that are larger
)

// partOf is the size of the parts of a file: the same on every try.
func partOf(size int64) int64 {
	part := int64(partSize)
	for size/part >= maxParts {
		part *= 2
	}
	return part
}

// New makes a driver; it does not connect yet.
func New(o Options) (*Driver, error) {
	base, err := url.Parse(o.URL)
	if err != nil || base.Host == "" {
		return nil, &destination.Error{Cause: queue.Misplaced, Says: "the address is not a web address", Err: err}
	}
	if o.Region == "" {
		o.Region = "us-east-1" // what gateways at home take for any
	}
	if o.Stale == 0 {
		o.Stale = 2 * time.Hour
	}
	o.Path = strings.Trim(o.Path, "/")
	transport := web.New(o.Web)
	core, err := minio.NewCore(base.Host, &minio.Options{
		Creds: credentials.New(secret{o}), Secure: base.Scheme == "https", Region: o.Region,
		Transport:    conditional{patient{transport}},
		BucketLookup: minio.BucketLookupPath, MaxRetries: 1, // trying again is the engine's
	})
	if err != nil {
		return nil, &destination.Error{Cause: queue.Misplaced, Says: "the address cannot be used", Err: err}
	}
	return &Driver{o: o, host: base.Host, core: core, transport: transport, publishing: destination.NewNameLocks()}, nil
}

// secret gives the keys to the library, anew for every request.
type secret struct{ o Options }

// RetrieveWithCredContext implements credentials.Provider.
func (s secret) RetrieveWithCredContext(*credentials.CredContext) (credentials.Value, error) {
	return s.Retrieve()
}

// Retrieve implements credentials.Provider.
func (s secret) Retrieve() (credentials.Value, error) {
	password, err := s.o.Password()
	if err != nil {
		return credentials.Value{}, &destination.Error{Cause: queue.SignIn, Says: "the secret key cannot be read: " +
			err.Error()}
	}
	return credentials.Value{AccessKeyID: s.o.User, SecretAccessKey: password, SignerType: credentials.SignatureV4}, nil
}

// IsExpired implements credentials.Provider.
func (s secret) IsExpired() bool { return true }

func (d *Driver) key(p string) string { return path.Join(d.o.Path, p) }

// Put implements destination.Driver. A file of one part is one request; others
// go part by part. Each is read into memory first, so that its hash is known
// before it leaves.
func (d *Driver) Put(ctx context.Context, temp string, body io.Reader, from, size int64) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	source := destination.NewBody(ctx, body, size-from)
	defer source.Stop()
	part := partOf(size)
	if size <= part {
		return d.putWhole(ctx, temp, source, size)
	}
	upload, kept, err := d.upload(ctx, temp, from, part)
	if err != nil {
		return err
	}
	buffer := make([]byte, part)
	for at := from; at < size; at += part {
		n, err := read(source, buffer[:min(part, size-at)])
		if err != nil {
			return err
		}
		number := int(at/part) + 1
		sum := sha256.Sum256(buffer[:n])
		sent, err := d.core.PutObjectPart(ctx, d.o.Bucket, d.key(temp), upload, number, bytes.NewReader(buffer[:n]), int64(n),
			signedPart(sum))
		if err != nil {
			return d.failure(ctx, "sending", err)
		}
		kept = append(kept, minio.CompletePart{PartNumber: number, ETag: sent.ETag})
	}
	if _, err := d.core.CompleteMultipartUpload(ctx, d.o.Bucket, d.key(temp), upload, kept,
		minio.PutObjectOptions{}); err != nil {
		return d.failure(ctx, "joining the parts", err)
	}
	return destination.CheckLength(ctx, d, temp, size)
}

// signedPart signs a part with its hash, which the storage compares. (The
// library's other way, without this option, signs piece by piece.) The storage
// is not asked to keep it: a gateway then took it for that of the copy that
// puts the file in place, which is to be computed from the copy.
func signedPart(sum [sha256.Size]byte) minio.PutObjectPartOptions {
	return minio.PutObjectPartOptions{Sha256Hex: hex.EncodeToString(sum[:]), DisableContentSha256: true}
}

// read fills p; what is missing is an error of the source.
func read(source *destination.Body, p []byte) (int, error) {
	n, err := io.ReadFull(source, p)
	if err == nil || errors.Is(err, io.EOF) && len(p) == 0 {
		return n, nil
	}
	if _, own := source.Stop(); own != nil {
		return n, own
	}
	return n, io.ErrUnexpectedEOF
}

func (d *Driver) putWhole(ctx context.Context, temp string, source *destination.Body, size int64) error {
	content := make([]byte, size)
	if _, err := read(source, content); err != nil {
		return err
	}
	sum := sha256.Sum256(content)
	_, err := d.core.PutObject(ctx, d.o.Bucket, d.key(temp), bytes.NewReader(content), size, "",
		hex.EncodeToString(sum[:]), minio.PutObjectOptions{DisableContentSha256: true})
	if err != nil {
		return d.failure(ctx, "sending", err)
	}
	return destination.CheckLength(ctx, d, temp, size)
}

// upload begins an upload in parts, or with from above 0 finds the one that
// Kept looked at, with its parts up to there.
func (d *Driver) upload(ctx context.Context, temp string, from, part int64) (string, []minio.CompletePart, error) {
	if from > 0 {
		id, there, err := d.begun(ctx, temp)
		if err != nil {
			return "", nil, err
		}
		// All parts may be there, the last one short: what was lost is the
		// completion.
		parts := (from + part - 1) / part
		var kept []minio.CompletePart
		for i, p := range there {
			if int64(i) < parts {
				kept = append(kept, minio.CompletePart{PartNumber: p.PartNumber, ETag: p.ETag})
			}
		}
		if id == "" || int64(len(kept)) != parts {
			return "", nil, destination.PartLost()
		}
		return id, kept, nil
	}
	if err := d.Remove(ctx, temp); err != nil {
		return "", nil, err
	}
	id, err := d.core.NewMultipartUpload(ctx, d.o.Bucket, d.key(temp), minio.PutObjectOptions{})
	if err != nil {
		return "", nil, d.failure(ctx, "beginning to send", err)
	}
	return id, nil, nil
}

// composite asks the storage to keep a SHA-256 of every part and one of those.
func composite() minio.PutObjectOptions {
	return minio.PutObjectOptions{UserMetadata: map[string]string{"x-amz-checksum-algorithm": "SHA256",
		"x-amz-checksum-type": "COMPOSITE"}}
}

// begun finds the upload of a temporary name that has the most parts, and
// those that follow one another from the first.
func (d *Driver) begun(ctx context.Context, temp string) (id string, parts []minio.ObjectPart, err error) {
	ids, err := d.uploads(ctx, temp)
	if err != nil {
		return "", nil, err
	}
	for _, candidate := range ids {
		var there []minio.ObjectPart
		for marker := 0; ; {
			list, err := d.core.ListObjectParts(ctx, d.o.Bucket, d.key(temp), candidate, marker, 1000)
			if err != nil {
				return "", nil, d.failure(ctx, "listing the parts", err)
			}
			for _, p := range list.ObjectParts {
				if p.PartNumber == len(there)+1 {
					there = append(there, p)
				}
			}
			if !list.IsTruncated || list.NextPartNumberMarker <= marker {
				break
			}
			marker = list.NextPartNumberMarker
		}
		if id == "" || len(there) > len(parts) {
			id, parts = candidate, there
		}
	}
	return id, parts, nil
}

func (d *Driver) uploads(ctx context.Context, p string) ([]string, error) {
	list, err := d.core.ListMultipartUploads(ctx, d.o.Bucket, d.key(p), "", "", "", 1000)
	if err != nil {
		return nil, d.failure(ctx, "listing what is under way", err)
	}
	var ids []string
	for _, u := range list.Uploads {
		if u.Key == d.key(p) {
			ids = append(ids, u.UploadID)
		}
	}
	return ids, nil
}

// Kept implements destination.Resumer: each part that is there is compared by
// its ETag, which is its MD5 unless the storage encrypts it; then all is sent
// anew. The proof does not rest on it.
func (d *Driver) Kept(ctx context.Context, temp string, local io.ReaderAt, size int64) (int64, error) {
	part := partOf(size)
	if size <= part {
		return 0, nil
	}
	_, there, err := d.begun(ctx, temp)
	if err != nil {
		return 0, err
	}
	kept := int64(0)
	buffer := make([]byte, part)
	for _, p := range there {
		n := min(part, size-kept)
		if n <= 0 || p.Size != n {
			break
		}
		if _, err := local.ReadAt(buffer[:n], kept); err != nil && !errors.Is(err, io.EOF) {
			return 0, fmt.Errorf("comparing what an earlier try sent: %w", err)
		}
		if sum := md5.Sum(buffer[:n]); strings.Trim(p.ETag, `"`) != hex.EncodeToString(sum[:]) || ctx.Err() != nil {
			break
		}
		kept += n
	}
	return kept, nil
}

// Resumes implements destination.Resumer.
func (d *Driver) Resumes() bool { return true }

// Publish implements destination.Driver. The copy's parts are copied inside the
// storage, and completing them fails if something has the name by then.
func (d *Driver) Publish(ctx context.Context, temp, to string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	unlock, err := d.publishing.Lock(ctx, to)
	if err != nil {
		return err
	}
	defer unlock()
	size, err := d.Size(ctx, temp)
	if err != nil {
		return err
	}
	if _, err := d.Size(ctx, to); err == nil { // for storage that knows no conditions
		return destination.ErrExists
	} else if !errors.Is(err, destination.ErrNotFound) {
		return err
	}
	if err := d.endOld(ctx); err != nil && context.Cause(ctx) != nil { // else it is done another time: nothing rests on it
		return err
	}
	if err := d.copy(ctx, temp, to, size); err != nil {
		return d.taken(ctx, err)
	}
	if n, err := d.Size(ctx, to); err != nil || n != size {
		if err == nil || errors.Is(err, destination.ErrNotFound) {
			err = &destination.Error{Cause: queue.Different, Says: "the storage copied the file and does not have it whole"}
		}
		return err
	}
	return d.Remove(ctx, temp)
}

// What is known of Place at this storage.
const (
	namesUntried int32 = iota
	namesHeeded
	namesWrittenOver
)

// Place implements destination.Placer by a PUT on condition that nothing has the name. Storage that
// ignores the condition is told by the first file: put a second time, the very same bytes must be
// refused.
func (d *Driver) Place(ctx context.Context, to string, content []byte, sum string) error {
	known := d.names.Load()
	if known == namesWrittenOver {
		return destination.ErrUnable
	}
	unlock, err := d.publishing.Lock(ctx, to)
	if err != nil {
		return err
	}
	defer unlock()
	if known == namesUntried { // it may write over what is there
		content = bytes.Clone(content) // of the caller's nothing is read once this has returned
		if _, err := d.Size(ctx, to); err == nil {
			return destination.ErrExists
		} else if !errors.Is(err, destination.ErrNotFound) {
			return err
		}
	}
	put := func() error {
		_, err := d.core.PutObject(ctx, d.o.Bucket, d.key(to), bytes.NewReader(content), int64(len(content)), "",
			sum, ifNone())
		return err
	}
	err = put()
	switch code := minio.ToErrorResponse(err).StatusCode; {
	case err != nil && known == namesUntried && (code == http.StatusNotImplemented || code == http.StatusBadRequest):
		d.names.Store(namesWrittenOver)
		return destination.ErrUnable
	case err != nil:
		return d.taken(ctx, err)
	case known != namesUntried:
		return nil
	}
	switch err := d.taken(ctx, put()); {
	case errors.Is(err, destination.ErrExists):
		d.names.CompareAndSwap(namesUntried, namesHeeded)
	case err == nil:
		d.names.Store(namesWrittenOver)
	} // else another file tells; this one lies there
	return nil
}

// endOld ends, now and then, what a process that was killed had begun under a
// final name. It cannot be told from what another service does this moment but by
// its age.
func (d *Driver) endOld(ctx context.Context) error {
	now := time.Now()
	if last := d.ended.Load(); now.UnixNano()-last < int64(d.o.Stale) || !d.ended.CompareAndSwap(last, now.UnixNano()) {
		return nil
	}
	prefix := d.o.Path
	if prefix != "" {
		prefix += "/"
	}
	list, err := d.core.ListMultipartUploads(ctx, d.o.Bucket, prefix, "", "", "", 1000)
	if err != nil {
		return d.failure(ctx, "listing what is under way", err)
	}
	for _, u := range list.Uploads {
		if strings.HasPrefix(u.Key, d.key(destination.TempDir)+"/") || now.Sub(u.Initiated) < d.o.Stale {
			continue
		}
		if err := d.core.AbortMultipartUpload(ctx, d.o.Bucket, u.Key, u.UploadID); err != nil &&
			minio.ToErrorResponse(err).Code != "NoSuchUpload" {
			return d.failure(ctx, "ending what was begun", err)
		}
	}
	return nil
}

// ifNone lets a request succeed only where nothing has the name (RFC 9110,
// 13.1.2).
func ifNone() minio.PutObjectOptions {
	o := minio.PutObjectOptions{DisableContentSha256: true} // the whole body is signed, not its pieces
	o.SetMatchETagExcept("*")
	return o
}

func (d *Driver) copy(ctx context.Context, temp, to string, size int64) error {
	if size == 0 { // nothing of it can be a part
		_, err := d.core.PutObject(ctx, d.o.Bucket, d.key(to), bytes.NewReader(nil), 0, "",
			hex.EncodeToString(sha256.New().Sum(nil)), ifNone())
		return err
	}
	id, err := d.core.NewMultipartUpload(ctx, d.o.Bucket, d.key(to), composite())
	if err != nil {
		return err
	}
	step := size
	if size > maxCopy {
		step = copyPart
	}
	var parts []minio.CompletePart
	for at := int64(0); at < size && err == nil; at += step {
		var p minio.CompletePart
		p, err = d.core.CopyObjectPart(ctx, d.o.Bucket, d.key(temp), d.o.Bucket, d.key(to), id, len(parts)+1, at,
			min(step, size-at), nil)
		parts = append(parts, p)
	}
	if err == nil {
		_, err = d.core.CompleteMultipartUpload(ctx, d.o.Bucket, d.key(to), id, parts, ifNone())
	}
	if err != nil {
		// What was begun under the final name is never left behind.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		_ = d.core.AbortMultipartUpload(ctx, d.o.Bucket, d.key(to), id) // it may be gone already
	}
	return err
}

// taken is the error of a copy, in the words of a driver.
func (d *Driver) taken(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	var own *destination.Error
	if errors.As(err, &own) {
		return err
	}
	if answer := minio.ToErrorResponse(err); answer.StatusCode == http.StatusPreconditionFailed ||
		answer.Code == "PreconditionFailed" || answer.Code == "ConditionalRequestConflict" {
		return destination.ErrExists
	}
	return d.failure(ctx, "putting the file in place", err)
}

// Size implements destination.Driver.
func (d *Driver) Size(ctx context.Context, p string) (int64, error) {
	info, err := d.core.StatObject(ctx, d.o.Bucket, d.key(p), minio.StatObjectOptions{})
	if err != nil {
		return 0, d.failure(ctx, "looking at "+p, err)
	}
	return info.Size, nil
}

// Prove implements destination.Prover by the SHA-256 that the storage computed:
// of the object, or of the one part that it is made of.
func (d *Driver) Prove(ctx context.Context, p, sum string, size int64) (string, error) {
	info, err := d.core.StatObject(ctx, d.o.Bucket, d.key(p), minio.StatObjectOptions{Checksum: true})
	if err != nil {
		return "", d.failure(ctx, "looking at "+p, err)
	}
	if info.Size != size {
		return "", destination.Differs(p)
	}
	raw, err := hex.DecodeString(sum)
	if err != nil {
		return "", fmt.Errorf("reading the hash of %s: %w", p, err)
	}
	ofPart := sha256.Sum256(raw)
	there := info.ChecksumSHA256
	switch {
	case there == "" || strings.Contains(there, "-") && !strings.HasSuffix(there, "-1"):
		return "", nil
	case there == base64.StdEncoding.EncodeToString(raw), there == base64.StdEncoding.EncodeToString(ofPart[:])+"-1":
		return "SHA-256 by the storage", nil
	}
	return "", destination.Differs(p)
}

// ProvesAnew implements destination.Prover: the storage keeps the hash.
func (d *Driver) ProvesAnew() bool { return false }

// Connection implements destination.Connected.
func (d *Driver) Connection() uint64 { return d.transport.Dials() }

// Stamp implements destination.Stamper: an object cannot be made with a time of
// one's own.
func (d *Driver) Stamp(ctx context.Context, p string) (string, error) {
	info, err := d.core.StatObject(ctx, d.o.Bucket, d.key(p), minio.StatObjectOptions{})
	if err != nil {
		return "", d.failure(ctx, "looking at "+p, err)
	}
	return info.LastModified.UTC().Format(time.RFC3339), nil
}

// Open implements destination.Driver.
func (d *Driver) Open(ctx context.Context, p string) (io.ReadCloser, error) {
	return d.OpenFrom(ctx, p, 0)
}

// OpenFrom implements destination.Ranger.
func (d *Driver) OpenFrom(ctx context.Context, p string, from int64) (io.ReadCloser, error) {
	var o minio.GetObjectOptions
	if from > 0 {
		o.Set("Range", fmt.Sprintf("bytes=%d-", from))
	}
	r, _, _, err := d.core.GetObject(ctx, d.o.Bucket, d.key(p), o)
	if err != nil {
		return nil, d.failure(ctx, "reading back", err)
	}
	return destination.ReadBack(r, func(err error) error { return d.failure(ctx, "reading back", err) }), nil
}

// Remove implements destination.Driver. What was begun under the name is
// aborted too.
func (d *Driver) Remove(ctx context.Context, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	if err := d.abort(ctx, temp); err != nil {
		return err
	}
	if err := d.core.RemoveObject(ctx, d.o.Bucket, d.key(temp), minio.RemoveObjectOptions{}); err != nil {
		if err := d.failure(ctx, "removing the temporary file", err); !errors.Is(err, destination.ErrNotFound) {
			return err
		}
	}
	return nil
}

// Withdraw implements destination.Driver. Object storage moves nothing: it is copied, and
// removed on the condition that it is still what was copied: by its version where the bucket
// keeps versions, else by its tag (RFC 9110, 13.1.1). Where the storage heeds neither, it
// stays, and the error is ErrUnable.
func (d *Driver) Withdraw(ctx context.Context, p, temp string) error {
	before, err := d.core.StatObject(ctx, d.o.Bucket, d.key(p), minio.StatObjectOptions{})
	if err != nil {
		return d.failure(ctx, "looking at "+p, err)
	}
	versioned := before.VersionID != "" && before.VersionID != "null"
	if err := d.Copy(ctx, p, temp); err != nil {
		return err
	}
	if !versioned {
		if err := d.heedsTags(ctx, temp); err != nil {
			return err
		}
	}
	if err := d.core.RemoveObject(ifMatch(ctx, before.ETag), d.o.Bucket, d.key(p),
		minio.RemoveObjectOptions{VersionID: version(before.VersionID, versioned)}); err != nil {
		if minio.ToErrorResponse(err).StatusCode == http.StatusPreconditionFailed {
			err = &destination.Error{Cause: queue.Busy, Says: "somebody else writes " + p}
		} else {
			err = d.failure(ctx, "taking "+p+" out of its place", err)
		}
		// What was copied aside is not what is there now.
		return errors.Join(err, d.Remove(ctx, temp))
	}
	return nil
}

func version(id string, versioned bool) string {
	if !versioned {
		return ""
	}
	return id
}

// heedsTags sees that the storage removes a file on the condition of its tag only: it is
// asked to remove what lies at temp by a tag that it does not have. Where that is removed all
// the same, nothing else was lost, and the error is ErrUnable.
func (d *Driver) heedsTags(ctx context.Context, temp string) error {
	err := d.core.RemoveObject(ifMatch(ctx, strings.Repeat("0", 32)), d.o.Bucket, d.key(temp), minio.RemoveObjectOptions{})
	switch {
	case err == nil:
		return destination.ErrUnable
	case minio.ToErrorResponse(err).StatusCode == http.StatusPreconditionFailed:
		return nil
	}
	return errors.Join(d.failure(ctx, "asking whether files are removed by their tag", err), d.Remove(ctx, temp))
}

type tagKey struct{}

// ifMatch has removals that are asked with a context made on the condition of a tag.
func ifMatch(ctx context.Context, tag string) context.Context {
	return context.WithValue(ctx, tagKey{}, tag)
}

// conditional puts the condition of ifMatch into requests.
type conditional struct{ http.RoundTripper }

func (c conditional) RoundTrip(r *http.Request) (*http.Response, error) {
	if tag, asked := r.Context().Value(tagKey{}).(string); asked && r.Method == http.MethodDelete {
		r = r.Clone(r.Context())
		r.Header.Set("If-Match", `"`+tag+`"`)
	}
	return c.RoundTripper.RoundTrip(r)
}

// Copy implements destination.Copier.
func (d *Driver) Copy(ctx context.Context, p, temp string) error {
	if err := destination.CheckTemp(temp); err != nil {
		return err
	}
	size, err := d.Size(ctx, p)
	switch {
	case err != nil:
		return err
	case size > maxCopy:
		return destination.ErrUnable
	}
	// Not in parts, as Publish does: nothing lies under a name that nobody can guess, and not
	// every storage makes parts of what was made of parts.
	if _, err := d.core.CopyObject(ctx, d.o.Bucket, d.key(p), d.o.Bucket, d.key(temp), nil, minio.CopySrcOptions{},
		minio.PutObjectOptions{}); err != nil {
		return d.failure(ctx, "copying the file", err)
	}
	return nil
}

// abort ends every upload in parts that was begun under a name.
func (d *Driver) abort(ctx context.Context, p string) error {
	ids, err := d.uploads(ctx, p)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := d.core.AbortMultipartUpload(ctx, d.o.Bucket, d.key(p), id); err != nil &&
			minio.ToErrorResponse(err).StatusCode != http.StatusNotFound {
			return d.failure(ctx, "ending what was begun", err)
		}
	}
	return nil
}

// List implements destination.Browser. The folders of a bucket are what the
// names of its objects have before a slash.
func (d *Driver) List(ctx context.Context, dir string) ([]destination.Entry, error) {
	prefix := d.key(dir)
	if prefix != "" && prefix != "." {
		prefix += "/"
	} else {
		prefix = ""
	}
	var entries []destination.Entry
	for next := ""; ; {
		page, err := d.core.ListObjectsV2(d.o.Bucket, prefix, "", next, "/", 1000)
		if err != nil {
			return nil, d.failure(ctx, "listing "+dir, err)
		}
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		for _, p := range page.CommonPrefixes {
			if name := strings.TrimSuffix(strings.TrimPrefix(p.Prefix, prefix), "/"); name != "" {
				entries = append(entries, destination.Entry{Name: name, Folder: true})
			}
		}
		for _, o := range page.Contents {
			if name := strings.TrimPrefix(o.Key, prefix); name != "" && !strings.HasSuffix(name, "/") {
				entries = append(entries, destination.Entry{Name: name, Size: o.Size})
			}
		}
		if !page.IsTruncated || page.NextContinuationToken == "" {
			break
		}
		next = page.NextContinuationToken
	}
	if dir == destination.TempDir { // what is under way is no object yet
		begun, err := d.core.ListMultipartUploads(ctx, d.o.Bucket, prefix, "", "", "", 1000)
		if err != nil {
			return nil, d.failure(ctx, "listing what is under way", err)
		}
		for _, u := range begun.Uploads {
			entries = append(entries, destination.Entry{Name: strings.TrimPrefix(u.Key, prefix)})
		}
	}
	if len(entries) == 0 && dir != "" {
		return nil, destination.ErrNotFound
	}
	return entries, nil
}

// MakeFolder implements destination.Browser: object storage has no folders to
// make.
func (d *Driver) MakeFolder(context.Context, string) error { return nil }

// Tidy implements destination.Browser: no folder is ever left.
func (d *Driver) Tidy(context.Context) error { return nil }

// Close implements destination.Driver.
func (d *Driver) Close() error {
	d.transport.CloseIdleConnections()
	return nil
}

// failure tells the cause of an error.
func (d *Driver) failure(ctx context.Context, doing string, err error) error {
	if why := context.Cause(ctx); why != nil {
		return why
	}
	answer := minio.ToErrorResponse(err)
	e := &destination.Error{Cause: queue.Busy, Says: fmt.Sprintf("%s: the storage answered %d %s", doing,
		answer.StatusCode, answer.Code), Err: err}
	switch code := answer.StatusCode; {
	case code == 0:
		return web.Failure(err, d.host)
	case answer.Code == "NoSuchBucket":
		e.Cause, e.Says = queue.Misplaced, fmt.Sprintf("the storage has no bucket %s", d.o.Bucket)
	case code == http.StatusUnauthorized, strings.HasPrefix(answer.Code, "InvalidAccessKey"), answer.Code == "NoSuchUser",
		answer.Code == "XAdminUserNotFound", answer.Code == "SignatureDoesNotMatch":
		e.Cause, e.Says = queue.SignIn, "the storage refuses the access key or the secret key"
	case code == http.StatusNotFound:
		return destination.ErrNotFound
	case code == http.StatusForbidden:
		e.Cause, e.Says = queue.SignIn, "the storage does not permit "+doing
	case code == http.StatusInsufficientStorage, answer.Code == "QuotaExceeded", strings.Contains(answer.Message,
		"no space left"):
		e.Cause, e.Says = queue.Full, "the storage is full"
	case answer.Code == "BadDigest", answer.Code == "XAmzContentSHA256Mismatch", answer.Code == "InvalidDigest":
		e.Cause, e.Says = queue.Different, "the storage received other bytes than were sent"
	case answer.Code == "SlowDown", code == http.StatusTooManyRequests, code == http.StatusServiceUnavailable:
	case code/100 == 3:
		e.Cause, e.Says = queue.Misplaced, "what answers at the address is not this S3 storage"
	case code == http.StatusRequestTimeout, code == http.StatusConflict, answer.Code == "NoSuchUpload", code/100 == 5:
	case code/100 == 4:
		e.Cause = queue.Refused
	}
	return e
}

// patient turns an answer that asks to wait into an error that says how long:
// the library keeps the header to itself.
type patient struct{ http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (p patient) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := p.RoundTripper.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	wait := web.RetryAfter(res.Header.Get("Retry-After"), time.Now())
	if wait == 0 || res.StatusCode != http.StatusTooManyRequests && res.StatusCode != http.StatusServiceUnavailable {
		return res, nil
	}
	_ = res.Body.Close() // its text does not matter
	return nil, &destination.Error{Cause: queue.Busy, Says: fmt.Sprintf("the storage answered %d and asks to wait",
		res.StatusCode), RetryAfter: wait}
}
