.PHONY: check run test quick openapi

# Format, vet, lint and type-check; tests are run by `make test`.
check:
	@out=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$out" ] || { echo "gofmt: $$out"; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	go mod tidy -diff
	scripts/npm-install web
	scripts/npm-install e2e
	npm --prefix web run --silent format
	npm --prefix web run --silent lint
	npm --prefix web run --silent typecheck
	npm --prefix e2e run --silent typecheck
	@go run ./cmd/latchkey openapi | diff -q - web/openapi.json || { echo "web/openapi.json is old: make openapi"; exit 1; }
	@go run ./cmd/latchkey openapi --words | diff -q - web/src/api/generated/words.ts || { echo "words.ts is old: make openapi"; exit 1; }

run:
	scripts/run

test:
	scripts/test

# The quick round while developing.
quick:
	scripts/quick

# Write the HTTP interface's description and the web client's types anew.
openapi:
	go run ./cmd/latchkey openapi > web/openapi.json
	go run ./cmd/latchkey openapi --words > web/src/api/generated/words.ts
	npm --prefix web run --silent types
