module yorvet.example/yorvet

go 1.26.0

require (
	github.com/RoaringBitmap/roaring/v2 v2.30.0
	go.yaml.in/yaml/v4 v4.0.0
	golang.org/x/net v0.62.0
)

require (
	github.com/bits-and-blooms/bitset v1.24.4 // indirect
	github.com/mschoch/smat v0.2.0 // indirect
	github.com/stretchr/testify v1.12.1 // indirect
	golang.org/x/sys v0.49.0 // indirect
	golang.org/x/text v0.43.0 // indirect
)
