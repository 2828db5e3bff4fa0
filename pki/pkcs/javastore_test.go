package pkcs

import (
	"bytes"
	"encoding/binary"
	"testing"
)

// javaStore is laid out by hand, as runtimes write it: a root, then a key with a chain.
func javaStore() []byte {
	var b bytes.Buffer
	number := func(n uint32) { binary.Write(&b, binary.BigEndian, n) }
	text := func(s string) { binary.Write(&b, binary.BigEndian, uint16(len(s))); b.WriteString(s) }
	block := func(s string) { number(uint32(len(s))); b.WriteString(s) }
	number(0xfeedfeed)
	number(2)
	number(2)
	number(2)
	text("root")
	b.Write(make([]byte, 8))
	text("X.509")
	block("anchor")
	number(1)
	text("key")
	b.Write(make([]byte, 8))
	block("sealed")
	number(2)
	text("X.509")
	block("own")
	text("X.509")
	block("above")
	return append(b.Bytes(), make([]byte, 20)...)
}

func TestReadJavaStore(t *testing.T) {
	store := javaStore()
	list, ok, err := ReadJavaStore(store)
	if !ok || err != nil || len(list) != 2 || string(list[0]) != "anchor" || string(list[1]) != "own" {
		t.Fatal(list, ok, err)
	}
	if _, ok, _ := ReadJavaStore([]byte("-----BEGIN CERTIFICATE-----")); ok {
		t.Error("text is no store")
	}
	for n := 12; n < len(store)-20; n++ {
		if _, ok, err := ReadJavaStore(store[:n]); !ok || err == nil {
			t.Errorf("cut after %d bytes it reads", n)
		}
	}
}

func FuzzReadJavaStore(f *testing.F) {
	f.Add(javaStore())
	f.Add([]byte("\xfe\xed\xfe\xed\x00\x00\x00\x02\xff\xff\xff\xff"))
	f.Fuzz(func(t *testing.T, data []byte) {
		list, ok, err := ReadJavaStore(data)
		total := 0
		for _, c := range list {
			total += len(c)
		}
		if total > len(data) || len(list) > 0 && (!ok || err != nil) {
			t.Error("more was read than there is")
		}
	})
}
