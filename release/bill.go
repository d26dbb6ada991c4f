package main

import (
	"bytes"
	"debug/buildinfo"
	"strings"

	cdx "github.com/CycloneDX/cyclonedx-go"
)

// bill lists what is built into a program, by what the program says of itself, as CycloneDX
// 1.6 in JSON: modules with their versions and package URLs.
func (b *build) bill(program, target string) ([]byte, error) {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return nil, err
	}
	bom := cdx.NewBOM()
	own := "pkg:golang/yorvet.example/yorvet@" + b.version
	bom.Metadata = &cdx.Metadata{
		Timestamp: b.when.Format("2006-01-02T15:04:05Z"),
		Component: &cdx.Component{BOMRef: own, Type: cdx.ComponentTypeApplication, Name: "yorvet", Version: b.version,
			PackageURL: own,
			Licenses:   &cdx.Licenses{{License: &cdx.License{ID: "Apache-2.0"}}},
			Properties: &[]cdx.Property{{Name: "target", Value: target}}},
	}
	components := []cdx.Component{{BOMRef: "pkg:golang/std@" + strings.TrimPrefix(info.GoVersion, "go"),
		Type: cdx.ComponentTypeLibrary, Name: "std",
		Version: strings.TrimPrefix(info.GoVersion, "go"), PackageURL: "pkg:golang/std@" +
			strings.TrimPrefix(info.GoVersion, "go")}}
	needs := []string{components[0].BOMRef}
	for _, module := range info.Deps {
		if module.Replace != nil {
			module = module.Replace
		}
		url := "pkg:golang/" + module.Path + "@" + module.Version
		components = append(components, cdx.Component{BOMRef: url, Type: cdx.ComponentTypeLibrary, Name: module.Path,
			Version: module.Version, PackageURL: url,
			Properties: &[]cdx.Property{{Name: "go:sum", Value: module.Sum}}})
		needs = append(needs, url)
	}
	bom.Components = &components
	bom.Dependencies = &[]cdx.Dependency{{Ref: own, Dependencies: &needs}}
	var out bytes.Buffer
	encoder := cdx.NewBOMEncoder(&out, cdx.BOMFileFormatJSON)
	encoder.SetPretty(true)
	err = encoder.EncodeVersion(bom, cdx.SpecVersion1_6)
	return out.Bytes(), err
}
