package snapshot

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// The files of an archive beside the data: what it is, which comes first, and the SHA-256 of each
// file, as sha256sum writes them, which comes last.
const (
	archiveManifest = "manifest.json"
	archiveSums     = "checksums.sha256"
)

// manifestLimit and sumsLimit are how large these may be, in bytes.
const (
	manifestLimit = 4 << 20
	sumsLimit     = 256 << 20
)

// Export packs a snapshot into a tar archive (POSIX.1-2001) compressed with Zstandard (RFC 8878).
func (s Store) Export(name string, w io.Writer, progress func(bytes int64)) error {
	m, err := s.Get(name)
	if err != nil {
		return err
	}
	m.Boot = ""
	return export(m, func(string) string { return s.path(name) }, w, progress)
}

// Export packs a snapshot into an archive, but for the data of those services that was put into the
// draft, which is in the place of theirs.
func (d *Draft) Export(m *Manifest, w io.Writer, progress func(bytes int64)) error {
	return export(m, func(service string) string {
		if exists(filepath.Join(d.Dir, "data", service)) {
			return d.Dir
		}
		return d.store.path(m.Name)
	}, w, progress)
}

// Take moves a part of a service's data into the draft, and adds it to what the manifest says of the
// service.
func (d *Draft) Take(one *Service, part int, from string) error {
	to := PartDir(d.Dir, one.Name, part)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	one.Parts[part] = filepath.Base(from)
	if err := move(from, to); err != nil {
		return err
	}
	bytes, files := sizeOf(to)
	one.Bytes, one.Files = one.Bytes+bytes, one.Files+files
	return nil
}

// export packs the data of services, each from the folder of the snapshot that it is in.
func export(m *Manifest, rootOf func(service string) string, w io.Writer, progress func(bytes int64)) error {
	z, err := zstd.NewWriter(w)
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	var sums bytes.Buffer
	add := func(name string, text []byte) error {
		if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o600, Size: int64(len(text)), ModTime: m.Made, Format: tar.FormatPAX}); err != nil {
			return err
		}
		_, err := t.Write(text)
		return err
	}
	if err := add(archiveManifest, text); err != nil {
		return err
	}
	sums.WriteString(sumLine(sha256.Sum256(text), archiveManifest))
	if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: "data/", Mode: 0o700, ModTime: m.Made, Format: tar.FormatPAX}); err != nil {
		return err
	}
	for _, one := range m.Services {
		if err := packService(t, &sums, rootOf(one.Name), one.Name, progress); err != nil {
			return err
		}
	}
	if err := add(archiveSums, sums.Bytes()); err != nil {
		return err
	}
	return errors.Join(t.Close(), z.Close())
}

// packService packs the data of a service.
func packService(t *tar.Writer, sums *bytes.Buffer, root, service string, progress func(bytes int64)) error {
	return filepath.WalkDir(filepath.Join(root, "data", service), func(file string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it had no data
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(root, file)
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		link := ""
		if info.Mode()&fs.ModeSymlink != 0 {
			if link, err = os.Readlink(file); err != nil {
				return err
			}
		}
		h, err := tar.FileInfoHeader(info, link)
		if err != nil {
			return err
		}
		// Who owned it here means nothing there.
		h.Name, h.Uid, h.Gid, h.Uname, h.Gname, h.Format = filepath.ToSlash(rel), 0, 0, "", "", tar.FormatPAX
		if err := t.WriteHeader(h); err != nil || !info.Mode().IsRegular() {
			return err
		}
		in, err := os.Open(file)
		if err != nil {
			return err
		}
		defer in.Close()
		sum := sha256.New()
		n, err := io.Copy(io.MultiWriter(t, sum), in)
		if err != nil {
			return err
		}
		sums.WriteString(sumLine([32]byte(sum.Sum(nil)), h.Name))
		progress(n)
		return nil
	})
}

func sumLine(sum [32]byte, name string) string {
	return hex.EncodeToString(sum[:]) + "  " + name + "\n"
}

// errDamaged says that an archive isn't what was exported.
var errDamaged = errors.New("it is damaged, or was not downloaded to its end")

// Import unpacks an archive of Export as the snapshot of a name, "" for the one it was exported
// under. All is checked before it appears: nothing leaves its folder, and nothing is larger than
// the archive said.
func (s Store) Import(r io.Reader, name string, progress func(bytes int64)) (*Manifest, error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderMaxWindow(128<<20))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	t := tar.NewReader(z)
	h, err := t.Next()
	if err != nil || h.Name != archiveManifest || h.Size > manifestLimit {
		return nil, errors.New("it is no snapshot that Neighbour has exported")
	}
	text, err := io.ReadAll(t)
	if err != nil {
		return nil, errDamaged
	}
	m, err := parseManifest(text)
	if err != nil {
		return nil, err
	}
	if name != "" {
		m.Name = name
	}
	if err := CheckName(m.Name); err != nil {
		return nil, err
	}
	if _, err := os.Lstat(s.path(m.Name)); err == nil {
		return nil, fmt.Errorf("%q: %w", m.Name, ErrExists)
	}
	draft, err := s.Begin()
	if err != nil {
		return nil, err
	}
	defer draft.Discard()
	if err := CheckRoom(draft.Dir, m.Bytes); err != nil {
		return nil, err
	}
	u := &unpacking{dir: draft.Dir, left: m.Bytes, sums: map[string]string{archiveManifest: hexOf(sha256.Sum256(text))}, services: m.Names(), progress: progress}
	if err := u.all(t); err != nil {
		return nil, err
	}
	// Nothing follows but padding, after which the compression has a checksum over all, rights
	// and times too.
	if _, err := t.Next(); err != io.EOF {
		return nil, errDamaged
	}
	if _, err := io.Copy(io.Discard, io.LimitReader(z, 1<<20)); err != nil {
		return nil, errDamaged
	}
	m.Why, m.Copied = "", m.Bytes
	return m, draft.Finish(m, nil)
}

func hexOf(sum [32]byte) string { return hex.EncodeToString(sum[:]) }

// unpacking is an import under way.
type unpacking struct {
	dir      string
	left     int64 // bytes that may still come
	sums     map[string]string
	services []string
	folders  []*tar.Header
	links    []string
	progress func(int64)
}

func (u *unpacking) all(t *tar.Reader) error {
	for {
		h, err := t.Next()
		if err != nil { // io.EOF, too: it ends with the sums
			return errDamaged
		}
		if h.Name == archiveSums {
			if err := u.checkLinks(); err != nil {
				return err
			}
			if err := u.check(io.LimitReader(t, sumsLimit)); err != nil {
				return err
			}
			break
		}
		if err := u.one(t, h); err != nil {
			return err
		}
	}
	for _, h := range slices.Backward(u.folders) {
		if err := sealAs(filepath.Join(u.dir, filepath.FromSlash(path.Clean(h.Name))), h.FileInfo()); err != nil {
			return err
		}
	}
	return nil
}

// checkLinks makes sure that no link leads out of the part of a service's data that it is in. Only
// once all is there is known where the links on the way to each lead.
func (u *unpacking) checkLinks() error {
	for _, name := range u.links {
		parts := strings.SplitN(name, "/", 4) // data, the service, the part of its data
		if _, err := checkLink(filepath.Join(u.dir, parts[0], parts[1], parts[2]), filepath.FromSlash(parts[3])); err != nil {
			var out *LinkError
			if errors.As(err, &out) {
				err = fmt.Errorf("it has the link %q, which leads to %q, outside of the data; nothing of it was taken", name, out.Target)
			}
			return err
		}
	}
	return nil
}

// one unpacks an entry. Folders come before what is in them, and each once, so that a link can't
// lead what comes after it elsewhere.
func (u *unpacking) one(t *tar.Reader, h *tar.Header) error {
	name := path.Clean(h.Name)
	parts := strings.Split(name, "/")
	if !filepath.IsLocal(filepath.FromSlash(name)) || parts[0] != "data" || strings.Contains(name, "\\") ||
		len(parts) > 1 && !slices.Contains(u.services, parts[1]) {
		return fmt.Errorf("it has %q, which is outside of the data; nothing of it was taken", h.Name)
	}
	to := filepath.Join(u.dir, filepath.FromSlash(name))
	for at := filepath.Dir(to); at != u.dir; at = filepath.Dir(at) {
		if info, err := os.Lstat(at); err != nil || !info.IsDir() {
			return fmt.Errorf("it has %q in what is no folder; nothing of it was taken", h.Name)
		}
	}
	switch h.Typeflag {
	case tar.TypeDir:
		u.folders = append(u.folders, h)
		return os.Mkdir(to, 0o700)
	case tar.TypeSymlink:
		if len(parts) < 4 {
			return fmt.Errorf("it has the link %q in place of data; nothing of it was taken", h.Name)
		}
		u.links = append(u.links, name)
		return os.Symlink(filepath.FromSlash(h.Linkname), to)
	case tar.TypeReg:
	default:
		return fmt.Errorf("it has %q, which is neither file, folder nor link; nothing of it was taken", h.Name)
	}
	if u.left -= h.Size; u.left < 0 {
		return errors.New("it holds more than it says; nothing of it was taken")
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(out, sum), t)
	if cerr := out.Close(); err == nil && cerr != nil {
		return cerr
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, zstd.ErrCRCMismatch) {
		return errDamaged
	}
	if err != nil {
		return err
	}
	u.sums[name] = hex.EncodeToString(sum.Sum(nil))
	u.progress(h.Size)
	return sealAs(to, h.FileInfo())
}

// check compares what came with the sums at the archive's end.
func (u *unpacking) check(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return errDamaged
	}
	for line := range strings.Lines(string(text)) {
		sum, name, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
		if !ok || u.sums[name] != sum {
			return fmt.Errorf("%w: %s is not what was exported", errDamaged, name)
		}
		delete(u.sums, name)
	}
	if len(u.sums) > 0 {
		return fmt.Errorf("%w: it has files that were not exported", errDamaged)
	}
	return nil
}
