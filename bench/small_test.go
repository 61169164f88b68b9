package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"yardtide/standin/gateway"
	"yardtide/standin/server"
	"yardtide/standin/sshd"
)

// sums hashes files on two cores.
func sums(b *testing.B, files []string) {
	b.Helper()
	list := b.TempDir() + "/list"
	require.NoError(b, os.WriteFile(list, []byte(strings.Join(files, "\n")+"\n"), 0o644))
	out, err := exec.Command("sh", "-c", "xargs -P 2 -n 64 sha256sum < "+list).CombinedOutput()
	require.NoError(b, err, "%s", out)
}

func sameIn(dir string, files []string) (there []string) {
	for _, f := range files {
		there = append(there, filepath.Join(dir, filepath.Base(f)))
	}
	return there
}

// 5,000 files of 50 KiB until safe, against the programs that do all of the same: to a folder cp
// and sha256sum of both; to OpenSSH sftp there and back, and the same sums; to the
// S3 gateway its client library there and back, and the same sums. Bounds: 1.5x; 1.2x; 1.2x.
func BenchmarkSmallUntilSafe(b *testing.B) {
	ratios := func(b *testing.B, bound float64, once func(dir string, files []string) (reference, took time.Duration)) {
		for range b.N {
			var all []float64
			var last time.Duration
			for range 3 {
				dir := b.TempDir()
				files := many(b, dir, 5000, 50<<10)
				reference, took := once(dir, files)
				all, last = append(all, took.Seconds()/reference.Seconds()), took
			}
			slices.Sort(all)
			bounded(b, all[1], "safe/rival", bound)
			b.ReportMetric(last.Seconds()/5, "ms/file")
		}
	}
	b.Run("folder", func(b *testing.B) {
		ratios(b, 1.5, func(dir string, files []string) (time.Duration, time.Duration) {
			theirs, ours := dir+"/theirs", dir+"/ours"
			require.NoError(b, os.MkdirAll(theirs, 0o755))
			require.NoError(b, os.MkdirAll(ours, 0o755))
			began := time.Now()
			out, err := exec.Command("cp", "-r", dir+"/in/.", theirs).CombinedOutput()
			require.NoError(b, err, "%s", out)
			sums(b, files)
			sums(b, sameIn(theirs, files))
			reference := time.Since(began)
			return reference, untilSafe(b, dir, fmt.Sprintf("kind: folder, path: %q", ours), int64(len(files)))
		})
	})
	b.Run("sshd", func(b *testing.B) {
		ratios(b, 1.2, func(dir string, files []string) (time.Duration, time.Duration) {
			s, err := sshd.Start(b.Context(), b.TempDir(), sshd.Options{TransferOnly: true})
			require.NoError(b, err)
			b.Cleanup(func() { require.NoError(b, s.Close()) })
			theirs, ours, back := dir+"/theirs", dir+"/ours", dir+"/back"
			for _, one := range []string{theirs, ours, back} {
				require.NoError(b, os.MkdirAll(one, 0o777))
			}
			require.NoError(b, server.Open(dir, theirs, ours))
			host, port, _ := strings.Cut(s.Address, ":")
			sftp := func(batch string) {
				file := b.TempDir() + "/batch"
				require.NoError(b, os.WriteFile(file, []byte(batch), 0o644))
				out, err := exec.Command("sftp", "-q", "-b", file, "-i", s.KeyFile, "-P", port, "-o", "StrictHostKeyChecking=no",
					"-o", "UserKnownHostsFile=/dev/null", s.User+"@"+host).CombinedOutput()
				require.NoError(b, err, "%s", out)
			}
			began := time.Now()
			sftp(fmt.Sprintf("lcd %s\ncd %s\nput *\n", dir+"/in", theirs))
			sums(b, files)
			sftp(fmt.Sprintf("cd %s\nlcd %s\nget *\n", theirs, back))
			sums(b, sameIn(back, files))
			reference := time.Since(began)
			where := fmt.Sprintf("kind: sftp, address: %q, user: %q, path: %q, host-key: %q, key-from: %q", s.Address, s.User,
				ours, s.HostKey, "file:"+s.KeyFile)
			return reference, untilSafe(b, dir, where, int64(len(files)))
		})
	})
	b.Run("s3", func(b *testing.B) {
		ratios(b, 1.2, func(dir string, files []string) (time.Duration, time.Duration) {
			g := &gateway.Server{Root: dir + "/gateway"}
			require.NoError(b, g.Start(b.Context(), "bench"))
			b.Cleanup(func() { require.NoError(b, g.Close()) })
			b.Setenv("YARD_BENCH_S3", g.Password)
			require.NoError(b, os.Mkdir(g.Files("reference"), 0o755))
			began := time.Now()
			throughS3(b, g, files, dir+"/back")
			reference := time.Since(began)
			where := fmt.Sprintf("kind: s3, url: %q, bucket: bench, user: %q, password-from: \"env:YARD_BENCH_S3\"",
				g.Endpoint, g.User)
			return reference, untilSafe(b, dir, where, int64(len(files)))
		})
	})
}

// throughS3 sends files over four connections with the client library, hashes them, fetches them back
// and hashes that.
func throughS3(b *testing.B, g *gateway.Server, files []string, back string) {
	b.Helper()
	client, err := minio.New(g.Address, &minio.Options{Creds: credentials.NewStaticV4(g.User, g.Password, ""),
		Region: "us-east-1"})
	require.NoError(b, err)
	each := func(do func(file, name string) error) {
		var all errgroup.Group
		all.SetLimit(4)
		for _, f := range files {
			all.Go(func() error { return do(f, filepath.Base(f)) })
		}
		require.NoError(b, all.Wait())
	}
	each(func(file, name string) error {
		_, err := client.FPutObject(b.Context(), "reference", name, file, minio.PutObjectOptions{})
		return err
	})
	sums(b, files)
	each(func(_, name string) error {
		return client.FGetObject(b.Context(), "reference", name, filepath.Join(back, name), minio.GetObjectOptions{})
	})
	sums(b, sameIn(back, files))
}
