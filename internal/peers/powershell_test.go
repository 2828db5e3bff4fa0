//go:build linux

package peers

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// grammarReader prints what of a file the grammar of PowerShell does not take.
const grammarReader = `import fs from 'fs';
import { pathToFileURL } from 'url';
const [, , dir, file] = process.argv;
const { Parser, Language } = await import(pathToFileURL(dir + '/node_modules/web-tree-sitter/web-tree-sitter.js'));
await Parser.init();
const parser = new Parser();
parser.setLanguage(await Language.load(dir + '/node_modules/tree-sitter-powershell/tree-sitter-powershell.wasm'));
const walk = n => {
  if (n.isError || n.isMissing) console.log(n.startPosition.row + 1, n.text.slice(0, 80));
  n.children.forEach(walk);
};
walk(parser.parse(fs.readFileSync(file, 'utf8')).rootNode);
`

// The script for Windows cannot run here. A grammar that others wrote takes the whole of it,
// and not what is spoiled.
func TestTheWindowsScriptIsPowerShell(t *testing.T) {
	node, dir := peer(t, "node"), os.Getenv("IRONSEAL_GRAMMAR")
	_, err := os.Stat(filepath.Join(dir, "node_modules/web-tree-sitter/web-tree-sitter.js"))
	if dir == "" || err != nil {
		if os.Getenv("CI") == "true" {
			t.Fatal("the grammar of PowerShell is not here: .ci/run fetches it")
		}
		t.Skip("the grammar of PowerShell is not here: .ci/run fetches it, and sets IRONSEAL_GRAMMAR")
	}
	e := newEstate(t, "ecdsa-p256")
	e.do("trust", "kit", "--for", "windows", "--out", "../kits")
	good, err := os.ReadFile(e.path("kits/own.windows/trust.ps1"))
	if err != nil {
		t.Fatal(err)
	}
	guide, err := os.ReadFile("../../docs/guide.md")
	if err != nil {
		t.Fatal(err)
	}
	var typed string
	for _, block := range strings.Split(string(guide), "```powershell\n")[1:] {
		lines, _, _ := strings.Cut(block, "```")
		typed += lines
	}
	if strings.Count(typed, "\n") < 5 {
		t.Errorf("the guide has %q for PowerShell", typed)
	}
	reader := write(t, e.path("read.mjs"), grammarReader)
	for text, takes := range map[string]bool{string(good): true, typed: true, "try { 1 } catch 2\n": false} {
		file := write(t, e.path("trust.ps1"), text)
		out, err := exec.Command(node, reader, dir, file).CombinedOutput()
		if err != nil || (len(out) == 0) != takes {
			t.Errorf("%v\n%s", err, out)
		}
	}
}
