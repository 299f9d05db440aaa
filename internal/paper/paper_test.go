package paper

import (
	"bytes"
	"encoding/binary"
	"strings"
	"testing"
	"unicode/utf16"
)

// utf16BE is a text as it stands in the PDF where a carried font writes it.
func utf16BE(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.BigEndian.AppendUint16(b, u)
	}
	return []byte(strings.NewReplacer("\\", "\\\\", "(", "\\(", ")", "\\)", "\r", "\\r").Replace(string(b)))
}

// Names of any script are in the PDF, in a font that has them; what no font has is spelled out.
func TestTextOfAnyScript(t *testing.T) {
	for name, c := range map[string]struct{ text, is, font string }{
		"western":   {"Zoë Größe, “ok” – 5 €", "", ""},
		"Czech":     {"Žofie Říhová", "Žofie Říhová", "DejaVu"},
		"Greek":     {"Λίμνη", "Λίμνη", "DejaVu"},
		"Cyrillic":  {"паром", "паром", "DejaVu"},
		"Hebrew":    {"מעבורת", "תרובעמ", "DejaVu"}, // right to left
		"both ways": {"pier מעבורת 7", "pier תרובעמ 7", "DejaVu"},
		"Han":       {"渡船 12", "渡船 12", "Unifont"},
		"Hangul":    {"여객선", "여객선", "Unifont"},
		"Thai":      {"เรือ", "เรือ", "Unifont"},
		"Ethiopic":  {"ጀልባ", "ጀልባ", "Unifont"},
		"a picture": {"渡 \U0001F6A2", "渡 [U+1F6A2]", "Unifont"},
		"invalid":   {"Ž\xff", "Ž\uFFFD", "DejaVu"},
	} {
		t.Run(name, func(t *testing.T) {
			p := New()
			p.SetCompression(false)
			p.AddPage()
			p.Font("Helvetica", "B", 10)
			p.Line(6, c.text, "", "")
			p.Text(0, 6, c.text+"\nplain")
			p.Line(6, "after", "", "")
			var b bytes.Buffer
			if err := p.Output(&b); err != nil {
				t.Fatal(err)
			}
			pdf := b.Bytes()
			if c.font == "" {
				if bytes.Contains(pdf, []byte("FontFile2")) || !bytes.Contains(pdf, []byte("Zo\xeb Gr\xf6\xdfe")) {
					t.Error("text that every reader can write carries a font, or is not there")
				}
				return
			}
			if n := bytes.Count(pdf, utf16BE(c.is)); n < 2 {
				t.Errorf("%q stands %d times in the PDF", c.is, n)
			}
			if !bytes.Contains(pdf, []byte("/FontName /utf8"+strings.ToLower(c.font))) {
				t.Errorf("the PDF carries no %s", c.font)
			}
			if !bytes.Contains(pdf, []byte("(after)")) {
				t.Error("the font of what comes next is not that of the page")
			}
			if len(pdf) > 1<<20 {
				t.Errorf("the PDF has %d bytes: it carries letters that it does not write", len(pdf))
			}
		})
	}
}

// FuzzText: no text breaks a PDF.
func FuzzText(f *testing.F) {
	f.Add("паром\n渡船")
	f.Add("\x00\xff\u202e\U0010ffff")
	f.Fuzz(func(t *testing.T, s string) {
		p := New()
		p.AddPage()
		p.Font("Courier", "", 7)
		p.Line(4, s, "", "")
		p.Text(0, 4, s)
		if err := p.Output(new(bytes.Buffer)); err != nil {
			t.Errorf("%q: %v", s, err)
		}
	})
}
