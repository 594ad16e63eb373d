package engine

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

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
	return filekind.Of(head[:n]), nil
}

// LookWithin says what a file in one of the folders is.
func LookWithin(folders []string, path string) (filekind.Kind, error) {
	path, err := FileWithin(folders, path)
	if err != nil {
		return filekind.Kind{}, err
	}
	return KindOfFile(path)
}
