package report

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html/template"
	"io"

	"compress/gzip"
)

//go:embed page
var files embed.FS

// scripts are the parts of the page's script, in their order.
var scripts = []string{"tools.js", "pictures.js", "pages.js", "start.js"}

// content is what is put into the page.
type content struct {
	Title, Name, Day, Made, Of string
	Style                      template.CSS
	Script, Data               template.JS
	StyleHash, ScriptHash      string
}

// Write writes a page. It runs its own script and style alone: the Content-Security-Policy
// in it names them by their hashes, and allows nothing else.
func (d *Data) Write(w io.Writer) error {
	page, err := template.ParseFS(files, "page/page.html")
	if err != nil {
		return err
	}
	style, err := files.ReadFile("page/style.css")
	if err != nil {
		return err
	}
	var script bytes.Buffer
	script.WriteString("(async () => {\n")
	for _, name := range scripts {
		part, err := files.ReadFile("page/" + name)
		if err != nil {
			return err
		}
		script.Write(part)
	}
	script.WriteString("})();\n")
	// Package json writes <, > and & as escapes: nothing in the data can end its element.
	data, err := json.Marshal(d)
	if err != nil {
		return err
	}
	if len(data) > mostPlain {
		if data, err = packed(data); err != nil {
			return err
		}
	}
	c := content{Data: template.JS(data)}
	title := d.Name
	if d.Of != "" {
		title += ", for " + d.Of
	}
	c.Title, c.Name, c.Day, c.Made, c.Of = title, d.Name, d.Day, d.Made, d.Of
	c.Style, c.Script = template.CSS(style), template.JS(script.String())
	c.StyleHash, c.ScriptHash = hash(style), hash(script.Bytes())
	return page.Execute(w, c)
}

// mostPlain is how many bytes of data stand in a page as they are.
const mostPlain = 1 << 20

// packed returns data packed by gzip (RFC 1952), as a text of JSON with base64 in it.
func packed(data []byte) ([]byte, error) {
	b := bytes.NewBufferString(`"`)
	to64 := base64.NewEncoder(base64.StdEncoding, b)
	w, err := gzip.NewWriterLevel(to64, gzip.BestSpeed)
	if err == nil {
		_, err = w.Write(data)
	}
	if err == nil {
		err = errors.Join(w.Close(), to64.Close())
	}
	b.WriteByte('"')
	return b.Bytes(), err
}

// hash is how a policy names a script or style (Content Security Policy Level 3, section 2.3).
func hash(data []byte) string {
	sum := sha256.Sum256(data)
	return "sha256-" + base64.StdEncoding.EncodeToString(sum[:])
}
