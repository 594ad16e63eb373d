package engine

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"

	"dustyferry/internal/core/filekind"
	"dustyferry/internal/domain"
)

// Files is a driver of an engine whose databases are files on the service's machine.
type Files interface {
	Driver
	// Within is the driver that opens files in these folders alone.
	Within(folders []string) Driver
	// Look says what a file is that it may open.
	Look(path string) (filekind.Kind, error)
	// Recognises reports whether it opens files of a kind.
	Recognises(k filekind.Kind) bool
	// Make makes an empty database in a file that is not there yet; made says whether it did.
	Make(ctx context.Context, path string) (made bool, err error)
}

// FileWithin returns a file's path, once all links in it are followed, if it is in one of the folders.
func FileWithin(folders []string, path string) (string, error) {
	if len(folders) == 0 {
		return "", domain.Forbidden("this service opens no files; whoever runs it names folders for them (serve --files)")
	}
	if !filepath.IsAbs(path) {
		return "", domain.Invalid("the path %q is not whole; write it from the root on, as it is on the service's machine",
			path)
	}
	real, err := filepath.EvalSymlinks(path)
	allowed := domain.Forbidden("%s is in none of the folders whose files this service opens (%s); move it "+
		"there, or have "+
		"whoever runs the service allow its folder (serve --files)", path, strings.Join(folders, ", "))
	for _, f := range folders {
		within, e := filepath.EvalSymlinks(f)
		if e != nil {
			continue
		}
		in := func(p string) bool { return p != "" && strings.HasPrefix(p, strings.TrimSuffix(within, "/")+"/") }
		switch {
		case err == nil && in(real):
			return regular(real)
		case err != nil && (in(filepath.Clean(path)) || strings.HasPrefix(filepath.Clean(path), filepath.Clean(f)+"/")):
			if errors.Is(err, os.ErrNotExist) {
				return "", domain.Unavailable(err, "there is no file %s on the service's machine", path)
			}
			return "", domain.Unavailable(err, "the file %s cannot be reached: %s", path, err)
		}
	}
	return "", allowed // said of what is not there too: nobody learns what else there is
}

// mostFiles is how many files a folder or a pattern may name together.
const mostFiles = 10_000

// FilesWithin returns the files that a path names, as [FileWithin] does: one, all of a folder, or those that a
// pattern in its last part names (* for any characters, ? for one, [a-c] for one of some), in the order of
// their names. Hidden ones and folders are none of them.
func FilesWithin(folders []string, path string) ([]string, error) {
	base, dir := "", ""
	if real, ok := within(folders, path); ok {
		if s, err := os.Stat(real); err == nil && s.IsDir() {
			base, dir = "*", real
		}
	} else if strings.ContainsAny(filepath.Base(path), "*?[") {
		if real, ok := within(folders, filepath.Dir(path)); ok {
			base, dir = filepath.Base(path), real
		}
	}
	if dir == "" {
		one, err := FileWithin(folders, path)
		return []string{one}, err
	}
	names, err := os.ReadDir(dir)
	if err != nil {
		return nil, domain.Unavailable(err, "the folder of %s cannot be read: %s", path, errors.Unwrap(err))
	}
	var out []string
	for _, entry := range names {
		fits, err := filepath.Match(base, entry.Name())
		if err != nil {
			return nil, domain.Invalid("the pattern %s cannot be read: see that each [ has its ]", path)
		}
		one := filepath.Join(dir, entry.Name())
		if !fits || strings.HasPrefix(entry.Name(), ".") {
			continue
		}
		if s, err := os.Stat(one); err == nil && s.IsDir() {
			continue
		}
		real, err := FileWithin(folders, one)
		if err != nil {
			return nil, err
		}
		if out = append(out, real); len(out) > mostFiles {
			return nil, domain.Invalid("%s names more than %s files; load them in several crossings", path,
				domain.Grouped(mostFiles))
		}
	}
	if len(out) == 0 {
		return nil, domain.Unavailable(nil, "no file on the service's machine is named by %s", path)
	}
	return out, nil
}

// within returns where a path leads to once its links are followed, if that is one of the folders or in one.
func within(folders []string, path string) (string, bool) {
	real, err := filepath.EvalSymlinks(path)
	if err != nil || !filepath.IsAbs(path) {
		return "", false
	}
	for _, f := range folders {
		if in, err := filepath.EvalSymlinks(f); err == nil && (real == in ||
			strings.HasPrefix(real, strings.TrimSuffix(in, "/")+"/")) {
			return real, true
		}
	}
	return "", false
}

// NewFileWithin returns the path of a file that is not there yet, if its folder is one of the folders, or in
// one; empty where the file is there.
func NewFileWithin(folders []string, path string) (string, error) {
	if _, err := os.Lstat(path); err == nil || !filepath.IsAbs(path) {
		return "", nil
	}
	dir, err := filepath.EvalSymlinks(filepath.Dir(path))
	for _, f := range folders {
		within, e := filepath.EvalSymlinks(f)
		if err == nil && e == nil && (dir == within || strings.HasPrefix(dir, strings.TrimSuffix(within, "/")+"/")) {
			return filepath.Join(dir, filepath.Base(path)), nil
		}
	}
	return "", nil
}

// regular refuses what is no file.
func regular(path string) (string, error) {
	s, err := os.Stat(path)
	if err != nil {
		return "", domain.Unavailable(err, "the file %s cannot be read: %s", path, errors.Unwrap(err))
	}
	if !s.Mode().IsRegular() {
		return "", domain.Invalid("%s is no file", path)
	}
	return path, nil
}

// KindOfFile looks into a file.
func KindOfFile(path string) (filekind.Kind, error) {
	f, err := os.Open(path)
	if err != nil {
		return filekind.Kind{}, domain.Unavailable(err, "the file %s cannot be read (%s); see that the service's user may "+
			"read it", path, errors.Unwrap(err))
	}
	defer func() { _ = f.Close() }()
	head := make([]byte, filekind.Enough)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return filekind.Kind{}, domain.Unavailable(err, "the file %s cannot be read: %s", path, err)
	}
	kind := filekind.Of(head[:n])
	if kind.Name == filekind.Zip {
		return ofArchive(f, kind), nil
	}
	packed := map[string]string{filekind.Gzip: "gzip", filekind.Zstd: "zstd"}[kind.Name]
	if packed == "" {
		return kind, nil
	}
	in, end, err := Unpacked(io.MultiReader(bytes.NewReader(head[:n]), f), packed)
	if err != nil {
		return kind, nil
	}
	defer end()
	if n, err = io.ReadFull(in, head); n == 0 && err != nil && !errors.Is(err, io.EOF) {
		return kind, nil
	}
	kind = filekind.Of(head[:n])
	if kind.Packed = packed; kind.Whole() {
		kind.Advice = "unpack it, and give what was in it"
	}
	return kind, nil
}

// ofArchive looks into a zip archive.
func ofArchive(f *os.File, kind filekind.Kind) filekind.Kind {
	s, err := f.Stat()
	if err != nil {
		return kind
	}
	z, err := zip.NewReader(f, s.Size())
	if err != nil {
		kind.Detail, kind.Advice = "damaged, or cut off", "have it written anew"
		return kind
	}
	names := make([]string, len(z.File))
	for i, file := range z.File {
		names[i] = file.Name
	}
	return filekind.OfArchive(names)
}

// Unpacked reads what is packed, as [filekind.Kind] says; end frees what that takes.
func Unpacked(r io.Reader, packed string) (in io.Reader, end func(), err error) {
	switch packed {
	case "gzip":
		z, err := gzip.NewReader(r)
		return z, func() {}, err
	case "zstd":
		z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(64<<20))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	}
	return r, func() {}, nil
}

// Carefully has a library's reading that goes astray in a damaged file end as an error.
func Carefully(f func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("it cannot be taken apart (%v)", r)
		}
	}()
	return f()
}

// FolderList is the name of the list that a folder has in it to which we write rows.
const FolderList = ".dusty-ferry.jsonl"

// FolderWithin returns the path of a folder, once all links in it are followed, if it is in one of the folders.
func FolderWithin(folders []string, path string) (string, error) {
	real, ok := within(folders, path)
	if !ok {
		_, err := FileWithin(folders, path) // says what is wrong
		return "", err
	}
	if s, err := os.Stat(real); err != nil || !s.IsDir() {
		return "", domain.Invalid("%s is no folder", path)
	}
	for _, f := range folders {
		if in, err := filepath.EvalSymlinks(f); err == nil && real == in {
			return "", domain.Invalid("%s is where this service opens files; give a folder in it", path)
		}
	}
	return real, nil
}

// LookWithin says what a file in one of the folders is, of several the first; or that a folder is one of ours.
func LookWithin(folders []string, path string) (filekind.Kind, error) {
	if real, ok := within(folders, path); ok {
		if _, err := os.Lstat(filepath.Join(real, FolderList)); err == nil {
			return filekind.Kind{Name: filekind.Folder, Advice: "it is opened by the engine folder"}, nil
		}
	}
	all, err := FilesWithin(folders, path)
	if err != nil {
		return filekind.Kind{}, err
	}
	return KindOfFile(all[0])
}
