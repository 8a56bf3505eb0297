module nidalo/bench

go 1.26.8

require (
	github.com/klauspost/reedsolomon v1.14.2
	golang.org/x/sys v0.49.0
	nidalo v0.0.0
)

require (
	github.com/google/uuid v1.6.0 // indirect
	github.com/klauspost/cpuid/v2 v2.3.0 // indirect
	golang.org/x/sync v0.25.0 // indirect
)

replace nidalo => ../
