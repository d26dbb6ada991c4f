# What is built from here, for those who type make.
.PHONY: test check release

test: ## the tests
	go test ./...

check: ## all that CI checks, with the servers that it needs
	.ci/run

release: ## programs, packages, lists of what is built in, and sums, in dist
	cd release && go run . -o ../dist
