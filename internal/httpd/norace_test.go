//go:build !race

package httpd_test

const racing = false
