package entryfile

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"time"

	"github.com/klauspost/compress/flate"

	"ambercellar/internal/core/audit"
)

// ZipFormat is the name of the format of what an archive says of itself, with its version.
const ZipFormat = "ambercellar-audit-export/1"

// About is what an archive of entries says of itself: about.json.
type About struct {
	Format  string            `json:"format"`
	Export  string            `json:"export"`
	By      string            `json:"by"`
	Made    time.Time         `json:"made"`
	Filter  map[string]string `json:"filter"`  // what was asked for
	Entries int64             `json:"entries"` // that are in it
	Rows    bool              `json:"rows"`    // details that may name values of rows are in it
	Head    audit.Head        `json:"head"`    // of the log, up to which entries were looked at
	Files   []AboutFile       `json:"files"`
}

// AboutFile is a file of an archive.
type AboutFile struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// Read hands out entries, the oldest first, a few at a time.
type Read func(each func([]Entry) error) error

// Zip writes an archive: entries in one file and details in another one, or both in PDFs. about is completed and
// stands in it as well. spool is an empty file in which details lie until the entries are written. step hears of how
// many entries were written.
func Zip(w io.Writer, spool io.ReadWriteSeeker, format string, about *About, read Read, step func(int)) error {
	z := &archive{Writer: zip.NewWriter(w), about: about, format: format}
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) { return fast(w) })
	about.Format, about.Files = ZipFormat, []AboutFile{}
	var err error
	if format == "pdf" {
		err = z.pdfs(read, step)
	} else {
		err = z.streams(spool, read, step)
	}
	if err != nil {
		return err
	}
	b, err := json.MarshalIndent(about, "", "  ")
	if err != nil {
		return err
	}
	f, err := z.create("about.json")
	if err == nil {
		_, err = f.Write(append(b, '\n'))
	}
	if err != nil {
		return err
	}
	return z.Close()
}

// fast compresses as fast as can be: a log repeats itself, and is small all the same.
func fast(w io.Writer) (*flate.Writer, error) { return flate.NewWriter(w, flate.BestSpeed) }

type archive struct {
	*zip.Writer
	about  *About
	format string
}

func (z *archive) header(name string) *zip.FileHeader {
	return &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: z.about.Made.UTC()}
}

func (z *archive) create(name string) (io.Writer, error) { return z.CreateHeader(z.header(name)) }

// summed counts what is written into a file of an archive, and hashes it.
type summed struct {
	io.Writer
	n   int64
	sha hash.Hash
	crc hash.Hash32
}

func sum(w io.Writer) *summed { return &summed{Writer: w, sha: sha256.New(), crc: crc32.NewIEEE()} }

func (s *summed) Write(b []byte) (int, error) {
	n, err := s.Writer.Write(b)
	s.n += int64(n)
	s.sha.Write(b[:n])
	s.crc.Write(b[:n])
	return n, err
}

func (s *summed) about(name string) AboutFile {
	return AboutFile{name, s.n, hex.EncodeToString(s.sha.Sum(nil))}
}

// streams writes entries and details, which are read once.
func (z *archive) streams(spool io.ReadWriteSeeker, read Read, step func(int)) error {
	file, err := z.create("entries." + z.format)
	if err != nil {
		return err
	}
	packed, err := fast(spool)
	if err != nil {
		return err
	}
	outs := []*summed{sum(file), sum(packed)}
	writers := []*Writer{writer(z.format, bare), writer(z.format, details)}
	for i, w := range writers {
		if err := w.Begin(outs[i]); err != nil {
			return err
		}
	}
	if err := read(func(list []Entry) error {
		z.about.Entries += int64(len(list))
		step(len(list))
		return errors.Join(writers[0].Each(outs[0], list), writers[1].Each(outs[1], list))
	}); err != nil {
		return err
	}
	for i, w := range writers {
		if _, err := io.WriteString(outs[i], w.End); err != nil {
			return err
		}
	}
	if err := packed.Close(); err != nil {
		return err
	}
	z.about.Files = append(z.about.Files, outs[0].about("entries."+z.format))
	return z.unspool(spool, outs[1])
}

// unspool takes over the details, compressed as they lie.
func (z *archive) unspool(spool io.ReadWriteSeeker, was *summed) error {
	size, err := spool.Seek(0, io.SeekCurrent)
	if err == nil {
		_, err = spool.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	h := z.header("details." + z.format)
	h.CRC32, h.CompressedSize64, h.UncompressedSize64 = was.crc.Sum32(), uint64(size), uint64(was.n)
	out, err := z.CreateRaw(h)
	if err == nil {
		_, err = io.Copy(out, spool)
	}
	z.about.Files = append(z.about.Files, was.about(h.Name))
	return err
}

// pdfs writes PDFs of so many entries each.
func (z *archive) pdfs(read Read, step func(int)) error {
	var list []Entry
	part := 0
	write := func(some []Entry) error {
		part++
		about := fmt.Sprintf("export %s by %s, part %d; log %s as of %s, whose last entry is %d with the hash %s",
			z.about.Export, z.about.By, part, z.about.Head.Log, z.about.Made.UTC().Format(time.DateTime+" UTC"),
			z.about.Head.Entry, z.about.Head.Hash)
		name := fmt.Sprintf("entries-%04d.pdf", part)
		file, err := z.create(name)
		if err != nil {
			return err
		}
		out := sum(file)
		err = PDF(out, some, about)
		z.about.Files = append(z.about.Files, out.about(name))
		z.about.Entries += int64(len(some))
		step(len(some))
		return err
	}
	err := read(func(some []Entry) error {
		list = append(list, some...)
		for len(list) >= MostOnPaper {
			if err := write(list[:MostOnPaper]); err != nil {
				return err
			}
			list = append([]Entry(nil), list[MostOnPaper:]...)
		}
		return nil
	})
	if err == nil && (len(list) > 0 || part == 0) {
		err = write(list)
	}
	return err
}
