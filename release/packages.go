package main

import (
	"bytes"
	"compress/gzip"
	"os"
	"path/filepath"
	"strings"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb" // registers the formats
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

// packages makes a Debian and an RPM package of a program.
func (b *build) packages(program, extras, machine string) error {
	contents, err := b.contents(program, extras)
	if err != nil {
		return err
	}
	for _, format := range []string{"deb", "rpm"} {
		info := nfpm.WithDefaults(&nfpm.Info{
			Name: "yorvet", Arch: machine, Platform: "linux", Version: b.version, Section: "mail", Priority: "optional",
			Maintainer: "The Yorvet authors <yorvet@yorvet.example>",
			Description: "Who may post to each mail group, who receives it, and why not.\n" +
				"Reads groups, people and rules, answers, and proves it with real messages.",
			Homepage: "https://yorvet.example/", License: "Apache-2.0", MTime: b.when,
			Overridables: nfpm.Overridables{Contents: contents, RPM: nfpm.RPM{BuildHost: "yorvet.example",
				Group: "Applications/Internet"}},
		})
		if err := nfpm.PrepareForPackager(info, format); err != nil {
			return err
		}
		packager, err := nfpm.Get(format)
		if err != nil {
			return err
		}
		name := packager.ConventionalFileName(info)
		var out bytes.Buffer
		if err := packager.Package(info, &out); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(b.to, name), out.Bytes(), 0o644); err != nil {
			return err
		}
		b.files = append(b.files, name)
	}
	return nil
}

// contents says which file goes where.
func (b *build) contents(program, extras string) (files.Contents, error) {
	var list files.Contents
	add := func(from, to string, mode os.FileMode) {
		list = append(list, &files.Content{Source: from, Destination: to,
			FileInfo: &files.ContentFileInfo{Mode: mode, MTime: b.when, Owner: "root", Group: "root"}})
	}
	add(program, "/usr/bin/yorvet", 0o755)
	add(filepath.Join(extras, "yorvet.bash"), "/usr/share/bash-completion/completions/yorvet", 0o644)
	add(filepath.Join(extras, "yorvet.zsh"), "/usr/share/zsh/vendor-completions/_yorvet", 0o644)
	add(filepath.Join(extras, "yorvet.fish"), "/usr/share/fish/vendor_completions.d/yorvet.fish", 0o644)
	for _, document := range documents {
		to := "/usr/share/doc/yorvet/" + document
		if document == "LICENSE" {
			to = "/usr/share/doc/yorvet/copyright"
		}
		add(filepath.Join(b.root, document), to, 0o644)
	}
	units, err := filepath.Glob(filepath.Join(b.root, "packaging", "systemd", "*"))
	if err != nil {
		return nil, err
	}
	for _, unit := range units {
		add(unit, "/usr/lib/systemd/system/"+filepath.Base(unit), 0o644)
	}
	pages, err := filepath.Glob(filepath.Join(extras, "man", "*.1"))
	if err != nil {
		return nil, err
	}
	for _, page := range pages {
		packed, err := squeezed(page)
		if err != nil {
			return nil, err
		}
		add(packed, "/usr/share/man/man1/"+filepath.Base(packed), 0o644)
	}
	return list, nil
}

// squeezed packs a file by gzip, without a name or time in it, and returns where that is.
func squeezed(path string) (string, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err == nil {
		_, err = w.Write(data)
	}
	if err == nil {
		err = w.Close()
	}
	to := strings.TrimSuffix(path, ".1") + ".1.gz"
	if err == nil {
		err = os.WriteFile(to, out.Bytes(), 0o644)
	}
	return to, err
}
