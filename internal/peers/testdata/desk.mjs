// Uses the desk in a real browser as a person does who has a keyboard, a telephone-sized screen and no scripts.
//   node desk.mjs CHROMIUM ADDRESS hand-in REQUEST-FILE PICTURES
//   node desk.mjs CHROMIUM ADDRESS fetch DOWNLOADS PICTURES
// It prints what it saw as JSON. PICTURES is a folder, or "-" for none.
import { spawn } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

const [, , chromium, address, task, file, pictures] = process.argv;
const home = mkdtempSync(join(tmpdir(), "desk-"));
const browser = spawn(chromium, ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
  "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-proxy-server",
  "--ignore-certificate-errors", "--hide-scrollbars", "--remote-debugging-port=0", `--user-data-dir=${home}`,
  "about:blank"], { stdio: ["ignore", "ignore", "pipe"] });
setTimeout(() => fail("it takes longer than two minutes"), 120_000).unref();

function fail(why) {
  browser.kill();
  console.error(why);
  process.exit(1);
}

const debugging = await new Promise((found) => {
  let said = "";
  browser.stderr.on("data", (d) => {
    said += d;
    const at = said.match(/ws:\/\/\S+/);
    if (at) found(at[0]);
  });
});
const socket = new WebSocket(debugging);
await new Promise((open) => (socket.onopen = open));
let last = 0;
const waiting = new Map(), events = [];
socket.onmessage = (m) => {
  const got = JSON.parse(m.data);
  if (got.id) waiting.get(got.id)(got);
  else events.push(got.method);
};
function ask(method, params = {}, sessionId) {
  return new Promise((answer) => {
    const id = ++last;
    waiting.set(id, (got) => (got.error ? fail(`${method}: ${got.error.message}`) : answer(got.result)));
    socket.send(JSON.stringify({ id, method, params, sessionId }));
  });
}
const target = await ask("Target.createTarget", { url: "about:blank" });
const session = (await ask("Target.attachToTarget", { targetId: target.targetId, flatten: true })).sessionId;
const page = (method, params) => ask(method, params, session);
const sleep = (ms) => new Promise((over) => setTimeout(over, ms));

// loaded waits for the next page that do() brings.
async function loaded(act) {
  const before = events.filter((e) => e === "Page.loadEventFired").length;
  await act();
  for (let n = 0; n < 400; n++) {
    if (events.filter((e) => e === "Page.loadEventFired").length > before) return;
    await sleep(50);
  }
  fail(`no page came after ${act}`);
}
async function press(key, code, text) {
  for (const type of ["keyDown", "keyUp"])
    await page("Input.dispatchKeyEvent", { type, key, code: key, windowsVirtualKeyCode: code, text: type === "keyDown" ? text : undefined });
}
const tab = () => press("Tab", 9);
const enter = () => press("Enter", 13, "\r");
const type = (text) => page("Input.insertText", { text });
async function html() {
  const { root } = await page("DOM.getDocument");
  return (await page("DOM.getOuterHTML", { nodeId: root.nodeId })).outerHTML;
}
async function size(width, height, mobile) {
  await page("Emulation.setDeviceMetricsOverride", { width, height, deviceScaleFactor: 1, mobile });
}
async function picture(name, width, height) {
  if (pictures === "-") return;
  await size(width, height, width < 500);
  const { data } = await page("Page.captureScreenshot", { format: "png" });
  writeFileSync(join(pictures, name + ".png"), Buffer.from(data, "base64"));
}
// wide tells whether something sticks out to the right.
async function wide() {
  const m = await page("Page.getLayoutMetrics");
  return m.cssContentSize.width > m.cssLayoutViewport.clientWidth;
}

await page("Page.enable");
await page("DOM.enable");
await page("Emulation.setScriptExecutionDisabled", { value: true });
await size(390, 844, true);
const saw = { wide: [] };
await loaded(() => page("Page.navigate", { url: address }));
if (await wide()) saw.wide.push("first page");

if (task === "hand-in") {
  await picture("desk-form-390", 390, 844);
  await size(390, 844, true);
  await tab(); // the request
  await type(readFileSync(file, "utf8"));
  await tab(); // the file
  await tab();
  await type("Ana Tide");
  await tab();
  await type("Crane control panel");
  await tab();
  await type("192.0.2.44 crane-2.ternbay.example");
  await tab(); // the kind of certificate
  await press("w", 87, "w");
  await press("e", 69, "e");
  await press("b", 66, "b");
  await tab(); // the device
  await press("n", 78, "n");
  await tab();
  await picture("desk-filled", 1280, 800);
  await loaded(enter);
  saw.preview = await html();
  if (await wide()) saw.wide.push("preview");
  await picture("desk", 1280, 800);
  await picture("desk-390", 390, 844);
  await tab();
  await loaded(enter);
  saw.page = await html();
  await picture("desk-waits", 1280, 800);
} else {
  await ask("Browser.setDownloadBehavior", { behavior: "allow", downloadPath: file, eventsEnabled: true });
  saw.page = await html();
  await picture("desk-signed", 1280, 800);
  await picture("desk-signed-390", 390, 844);
  await tab(); // the first file
  await enter();
  for (let n = 0; n < 200 && !events.includes("Browser.downloadProgress"); n++) await sleep(50);
  await sleep(300);
}
const history = await page("Page.getNavigationHistory");
saw.url = history.entries[history.currentIndex].url;
console.log(JSON.stringify(saw));
socket.close();
browser.kill();
await sleep(300);
rmSync(home, { recursive: true, force: true });
process.exit(0);
