module humblemule

go 1.26

require github.com/mattn/go-sqlite3 v1.14.53

require (
	github.com/stretchr/testify v1.12.1
	go.yaml.in/yaml/v3 v3.0.5 // indirect
)
