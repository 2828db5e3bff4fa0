//go:build race

package httpd_test

// racing says that the race detector slows everything down.
const racing = true
