package handover

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"yardtide/engine/inbox"
	"yardtide/service/phones"
)

// This file serves SFTP (draft-ietf-secsh-filexfer-02) of one phone's inbox, by pkg/sftp over handlers of our own: no path
// is a path of this machine's. A file appears when it is closed and on disk.

const (
	sshTime     = 20 * time.Second // for the handshake and the key
	mostSSH     = 64               // connections
	mostKeyTry  = 6
	mostChannel = 4 // of a connection
)

// ServeSFTP serves apps that speak SFTP until the context ends.
func (s *Server) ServeSFTP(ctx context.Context, l net.Listener, host ssh.Signer) error {
	var all sync.WaitGroup
	defer all.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	all.Go(func() {
		<-ctx.Done()
		_ = l.Close() // it ends Accept
	})
	places := make(chan struct{}, mostSSH)
	for {
		conn, err := l.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return fmt.Errorf("serving SFTP: %w", err)
		}
		select {
		case places <- struct{}{}:
		default:
			_ = conn.Close() // there is no place
			continue
		}
		all.Go(func() {
			defer func() { <-places }()
			s.session(ctx, conn, host)
		})
	}
}

// sshConfig lets phones in by their password or a key of theirs.
func (s *Server) sshConfig() *ssh.ServerConfig {
	return &ssh.ServerConfig{MaxAuthTries: mostKeyTry, ServerVersion: "SSH-2.0-YardTide",
		PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			is, ok := s.Phones.ByPassword(c.User(), string(password))
			if !ok {
				return nil, errWrongKey
			}
			return permit(is), nil
		},
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			is, ok := s.Phones.ByKey(c.User(), func(authorized string) bool {
				known, _, _, _, err := ssh.ParseAuthorizedKey([]byte(authorized))
				return err == nil && bytes.Equal(known.Marshal(), key.Marshal())
			})
			if !ok {
				return nil, errWrongKey
			}
			return permit(is), nil
		}}
}

// session serves one connection.
func (s *Server) session(ctx context.Context, conn net.Conn, host ssh.Signer) {
	defer conn.Close()
	config := s.sshConfig()
	config.AddHostKey(host)
	if err := conn.SetDeadline(time.Now().Add(sshTime)); err != nil {
		return
	}
	secured, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return // a stranger
	}
	caller, is := secured.Permissions.ExtraData[callerKey{}].(phones.Caller)
	if !is || !s.calls.begin(caller.Name) {
		return
	}
	defer s.calls.end(caller.Name)
	if c, is := conn.(interface{ Known() }); is {
		c.Known()
	}
	if err := conn.SetDeadline(time.Time{}); err != nil {
		return
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var all sync.WaitGroup
	defer all.Wait()
	all.Go(func() {
		select {
		case <-caller.Revoked:
		case <-ctx.Done():
		}
		cancel()
		_ = secured.Close() // it ends what is under way
	})
	all.Go(func() { ssh.DiscardRequests(requests) })
	defer cancel()
	open := make(chan struct{}, mostChannel)
	for one := range channels {
		if one.ChannelType() != "session" {
			_ = one.Reject(ssh.UnknownChannelType, "only files are served here")
			continue
		}
		select {
		case open <- struct{}{}:
		default:
			_ = one.Reject(ssh.ResourceShortage, "too many at once")
			continue
		}
		all.Go(func() {
			defer func() { <-open }()
			s.channel(ctx, caller, one)
		})
	}
}

type callerKey struct{}

var errWrongKey = errors.New("the key is wrong, or was taken back")

func permit(c phones.Caller) *ssh.Permissions {
	return &ssh.Permissions{ExtraData: map[any]any{callerKey{}: c}}
}

// channel serves the subsystem sftp, and no other request.
func (s *Server) channel(ctx context.Context, caller phones.Caller, wanted ssh.NewChannel) {
	channel, requests, err := wanted.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	for r := range requests {
		ok := r.Type == "subsystem" && len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp"
		if err := r.Reply(ok, nil); err != nil {
			return
		}
		if ok {
			break
		}
	}
	var rest sync.WaitGroup
	defer rest.Wait()
	rest.Go(func() { ssh.DiscardRequests(requests) })
	h := sftpFiles{ctx, caller.Inbox}
	server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
	if err := server.Serve(); err != nil && !errors.Is(err, io.EOF) && ctx.Err() == nil {
		s.Log.Debug("an app's SFTP ended", "device", caller.Name, "err", err)
	}
	_ = server.Close() // the channel is closed
	_ = channel.Close()
}

// sftpFiles is an inbox as pkg/sftp asks it.
type sftpFiles struct {
	ctx context.Context //nolint:containedctx // of one channel: the library passes none
	box *inbox.Inbox
}

// sftpError is an error as the protocol tells it.
func sftpError(err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return sftp.ErrSSHFxNoSuchFile
	case errors.Is(err, inbox.ErrIsFolder):
		return sftp.ErrSSHFxFailure
	case errors.Is(err, inbox.ErrNotSafe), errors.Is(err, inbox.ErrFolderHolds):
		return fmt.Errorf("%w: %w", sftp.ErrSSHFxPermissionDenied, err)
	}
	return err
}

// Fileread implements sftp.FileReader.
func (f sftpFiles) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	at, err := clean(r.Filepath)
	if err != nil {
		return nil, sftpError(err)
	}
	file, err := f.box.Listing.Open(f.ctx, inbox.BySFTP, at)
	if err != nil {
		return nil, sftpError(err)
	}
	return file, nil
}

// Filewrite implements sftp.FileWriter.
func (f sftpFiles) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	at, err := clean(r.Filepath)
	if err != nil || at == "" {
		return nil, sftpError(errors.Join(err, sftp.ErrSSHFxPermissionDenied))
	}
	if err := f.box.Listing.MayPut(f.ctx, inbox.BySFTP, at); err != nil {
		return nil, sftpError(err)
	}
	if r.Pflags().Append {
		return nil, fmt.Errorf("%w: a file here is put whole", sftp.ErrSSHFxOpUnsupported)
	}
	w, err := f.box.CreateAt()
	if err != nil {
		return nil, sftpError(err)
	}
	return &sftpWrite{ctx: f.ctx, w: w, at: at}, nil
}

// Filecmd implements sftp.FileCmder.
func (f sftpFiles) Filecmd(r *sftp.Request) error {
	at, err := clean(r.Filepath)
	if err != nil {
		return sftpError(err)
	}
	switch r.Method {
	case "Setstat": // times and modes are the phone's own
		return nil
	case "Mkdir":
		return sftpError(f.box.Listing.MakeFolder(f.ctx, inbox.BySFTP, at))
	case "Rename", "PosixRename":
		to, err := clean(r.Target)
		if err != nil || at == "" || to == "" {
			return sftpError(errors.Join(err, sftp.ErrSSHFxPermissionDenied))
		}
		return sftpError(f.box.Listing.Rename(f.ctx, inbox.BySFTP, at, to, r.Method == "PosixRename"))
	case "Remove", "Rmdir":
		if at == "" {
			return sftp.ErrSSHFxPermissionDenied
		}
		return sftpError(f.box.Listing.Remove(f.ctx, inbox.BySFTP, at))
	}
	return sftp.ErrSSHFxOpUnsupported // links among them
}

// Filelist implements sftp.FileLister.
func (f sftpFiles) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	at, err := clean(r.Filepath)
	if err != nil {
		return nil, sftp.ErrSSHFxNoSuchFile
	}
	switch r.Method {
	case "List":
		list, err := f.box.Listing.List(f.ctx, inbox.BySFTP, at)
		if err != nil {
			return nil, sftpError(err)
		}
		infos := make(sftpList, len(list))
		for i, one := range list {
			infos[i] = davInfo{one}
		}
		return infos, nil
	case "Stat", "Lstat":
		is, err := f.box.Listing.Stat(f.ctx, inbox.BySFTP, at)
		if err != nil {
			return nil, sftpError(err)
		}
		if at == "" {
			is.Name = "/"
		}
		return sftpList{davInfo{is}}, nil
	}
	return nil, sftp.ErrSSHFxOpUnsupported
}

// RealPath implements sftp.RealPathFileLister: the inbox is all that there is.
func (f sftpFiles) RealPath(name string) (string, error) {
	return path.Clean("/" + strings.TrimPrefix(name, "/")), nil
}

type sftpList []os.FileInfo

// ListAt implements sftp.ListerAt.
func (l sftpList) ListAt(into []os.FileInfo, offset int64) (int, error) {
	if offset < 0 || offset >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(into, l[offset:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}

// sftpWrite takes a file in whose pieces come in any order.
type sftpWrite struct {
	ctx context.Context //nolint:containedctx // of one channel
	w   *inbox.WriterAt
	at  string

	mu   sync.Mutex
	cut  bool
	over bool
}

func (f *sftpWrite) WriteAt(p []byte, offset int64) (int, error) { return f.w.WriteAt(p, offset) }

// TransferError implements sftp.TransferError: the connection ended before the app closed the file.
func (f *sftpWrite) TransferError(error) {
	f.mu.Lock()
	f.cut = true
	f.mu.Unlock()
}

// Close gives the file its name, if its app closed it.
func (f *sftpWrite) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.over {
		return nil
	}
	f.over = true
	if f.cut || f.ctx.Err() != nil || f.w.Size() == 0 {
		return f.w.Drop()
	}
	_, err := f.w.Take(f.ctx, inbox.BySFTP, f.at, true)
	return sftpError(err)
}
