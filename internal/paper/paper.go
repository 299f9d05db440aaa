// Package paper writes PDFs in which text of any script can stand.
package paper

import (
	_ "embed"
	"fmt"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/unicode/bidi"
)

//go:embed dejavu.ttf.zst
var dejavu []byte

//go:embed unifont.ttf.zst
var unifont []byte

// carried are the fonts that a PDF carries, for what the fonts that every reader has cannot write. They are tried in
// order.
var carried = []struct {
	name   string
	packed []byte
}{{"DejaVu", dejavu}, {"Unifont", unifont}}

// font is a font that is carried by a PDF, or may be.
type font struct {
	file   []byte
	glyphs *sfnt.Font
	added  bool
}

// has says whether the font can write all of a text.
func (f *font) has(s string) bool {
	var b sfnt.Buffer
	for _, c := range s {
		if g, err := f.glyphs.GlyphIndex(&b, c); c != '\n' && (err != nil || g == 0) {
			return false
		}
	}
	return true
}

// Paper is a PDF that is being written. Text is written by Line and Text, in a font that has its script.
type Paper struct {
	*fpdf.Fpdf
	western       func(string) string
	family, style string
	size          float64
	fonts         map[string]*font // that a text has needed
}

// New returns an empty PDF of A4 pages; lengths are millimetres.
func New() *Paper {
	p := fpdf.New("P", "mm", "A4", "")
	return &Paper{Fpdf: p, western: p.UnicodeTranslatorFromDescriptor(""), fonts: map[string]*font{}}
}

// Font sets the font of what comes next: one that every reader has, its style ("", "B" or "I"), and its size in
// points. Text that it cannot write is written in one that can.
func (p *Paper) Font(family, style string, size float64) {
	p.family, p.style, p.size = family, style, size
	p.SetFont(family, style, size)
}

// Cell writes a text in a cell of a line; see fpdf.CellFormat.
func (p *Paper) Cell(width, height float64, s string) {
	p.CellFormat(width, height, p.chosen(s), "", 0, "", false, 0, "")
	p.SetFont(p.family, p.style, p.size)
}

// Line writes a text in a line of its own; borders and alignment are those of fpdf.CellFormat.
func (p *Paper) Line(height float64, s, border, align string) {
	p.CellFormat(0, height, p.chosen(s), border, 1, align, false, 0, "")
	p.SetFont(p.family, p.style, p.size)
}

// Text writes a text in as many lines as it needs; see fpdf.MultiCell.
func (p *Paper) Text(width, height float64, s string) {
	p.MultiCell(width, height, p.chosen(s), "", "", false)
	p.SetFont(p.family, p.style, p.size)
}

// carried returns a font, which is unpacked when a text first needs it.
func (p *Paper) carried(name string, packed []byte) (*font, error) {
	if f := p.fonts[name]; f != nil {
		return f, nil
	}
	r, err := zstd.NewReader(nil)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b, err := r.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("font %s: %w", name, err)
	}
	glyphs, err := sfnt.Parse(b)
	if err != nil {
		return nil, fmt.Errorf("font %s: %w", name, err)
	}
	f := &font{file: b, glyphs: glyphs}
	p.fonts[name] = f
	return f, nil
}

// chosen sets the font for a text and returns the text as that font takes it, in the order in which it is seen.
func (p *Paper) chosen(s string) string {
	s = strings.ToValidUTF8(s, "\uFFFD")
	if _, err := charmap.Windows1252.NewEncoder().String(s); err == nil {
		return p.western(s)
	}
	s = seen(s)
	for i, c := range carried {
		f, err := p.carried(c.name, c.packed)
		if err != nil {
			p.SetError(err)
			return ""
		}
		if i == len(carried)-1 {
			s = spelled(s, f)
		}
		if !f.has(s) {
			continue
		}
		if !f.added {
			p.AddUTF8FontFromBytes(c.name, "", f.file)
			f.added = true
		}
		p.SetFont(c.name, "", p.size)
		break
	}
	return s
}

// spelled replaces what a font has no glyph for by its number, as in [U+1F6A2].
func spelled(s string, f *font) string {
	var b strings.Builder
	for _, c := range s {
		if f.has(string(c)) {
			b.WriteRune(c)
		} else {
			fmt.Fprintf(&b, "[U+%04X]", c)
		}
	}
	return b.String()
}

// seen reverses what is written from right to left in each line, as the Unicode Bidirectional Algorithm (UAX #9) finds
// it: a PDF writes all letters from left to right.
func seen(s string) string {
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		var p bidi.Paragraph
		if _, err := p.SetString(line); err != nil {
			continue
		}
		order, err := p.Order()
		if err != nil {
			continue
		}
		var b strings.Builder
		for n := range order.NumRuns() {
			run := order.Run(n)
			text := run.String()
			if run.Direction() == bidi.RightToLeft {
				words := strings.TrimSpace(text) // what parts them from the next run stays before that
				text = strings.Replace(text, words, bidi.ReverseString(words), 1)
			}
			b.WriteString(text)
		}
		lines[i] = b.String()
	}
	return strings.Join(lines, "\n")
}
