// Package role finds the folders that a device has for pictures, documents and the
// like, whatever they are called there, so that one plan serves machines with other
// names and languages. It reads no file of the keeper's.
package role

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/adrg/xdg"
)

// roles are the words that stand for a folder at the beginning of a source, with the
// names under which it is looked for below a device's root, the likeliest first.
var roles = []struct {
	word  string
	names []string
	user  func() string // of the user whose home the root is (XDG user directories, and their kin elsewhere)
}{
	{"CAMERA", []string{"DCIM"}, nil}, // JEITA CP-3461, design rule for camera file system, 3.2
	{"PICTURES", []string{"Pictures"}, func() string { return xdg.UserDirs.Pictures }},
	{"VIDEOS", []string{"Videos", "Movies"}, func() string { return xdg.UserDirs.Videos }},
	{"DOCUMENTS", []string{"Documents"}, func() string { return xdg.UserDirs.Documents }},
	{"DESKTOP", []string{"Desktop"}, func() string { return xdg.UserDirs.Desktop }},
	{"DOWNLOAD", []string{"Downloads", "Download"}, func() string { return xdg.UserDirs.Download }},
	{"MUSIC", []string{"Music"}, func() string { return xdg.UserDirs.Music }},
}

// Folder is where a source lies on a device whose root is at a path: an absolute path
// as it is, a role's folder for its word, and else below the root.
func Folder(root, source string) string {
	if filepath.IsAbs(source) {
		return source
	}
	first, rest, _ := strings.Cut(source, "/")
	for _, r := range roles {
		if r.word == first {
			return filepath.Join(of(root, r.names, r.user), filepath.FromSlash(rest))
		}
	}
	return filepath.Join(root, filepath.FromSlash(source))
}

func of(root string, names []string, user func() string) string {
	if home, err := os.UserHomeDir(); err == nil && user != nil && same(home, root) {
		if folder := user(); folder != "" && !same(folder, home) { // a role that the user has not is the home folder itself
			return folder
		}
	}
	for _, name := range names {
		if info, err := os.Stat(filepath.Join(root, name)); err == nil && info.IsDir() {
			return filepath.Join(root, name)
		}
	}
	return filepath.Join(root, names[0])
}

func same(a, b string) bool { return filepath.Clean(a) == filepath.Clean(b) }

// Usual is a folder that people mostly keep their things in.
type Usual struct {
	Source string // as a plan names it
	Path   string
}

// Of lists the roles' folders that a device has.
func Of(root string) (list []Usual) {
	for _, r := range roles {
		path := of(root, r.names, r.user)
		if info, err := os.Stat(path); err != nil || !info.IsDir() || same(path, root) {
			continue
		}
		if !slices.ContainsFunc(list, func(u Usual) bool { return same(u.Path, path) }) {
			list = append(list, Usual{r.word, path})
		}
	}
	return list
}
