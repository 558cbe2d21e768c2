"""Looks at pages in a headless browser, through the WebDriver protocol of its driver (W3C)."""

import json
import pathlib
import socket
import subprocess
import sys
import time
import urllib.request

WIDTHS = {"wide": (1280, 800), "phone": (390, 844)}

# The least contrast of any text that is seen, with the text (WCAG 2.2, 1.4.3: 4.5 for text of this size).
CONTRAST = """
const channel = (value) => { value /= 255; return value <= 0.04045 ? value / 12.92 : ((value + 0.055) / 1.055) ** 2.4; };
const luminance = ([r, g, b]) => 0.2126 * channel(r) + 0.7152 * channel(g) + 0.0722 * channel(b);
const parse = (text) => (text.match(/[\\d.]+/g) || []).map(Number);
const behind = (element) => {
  if (element.closest("svg")) {
    const rect = element.parentElement.querySelector("rect");
    return parse(getComputedStyle(rect).fill);
  }
  for (let one = element; one; one = one.parentElement) {
    const colour = parse(getComputedStyle(one).backgroundColor);
    if (colour.length === 3 || colour[3] === 1) return colour;
  }
  return [255, 255, 255];
};
let worst = [99, ""];
const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
while (walker.nextNode()) {
  const element = walker.currentNode.parentElement;
  const text = walker.currentNode.textContent.trim();
  if (!text || ["SCRIPT", "STYLE", "title"].includes(element.tagName) || !element.getClientRects().length) continue;
  const style = getComputedStyle(element);
  const front = parse(element.closest("svg") ? style.fill : style.color);
  const [a, b] = [luminance(front), luminance(behind(element))];
  const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
  if (ratio < worst[0]) worst = [ratio, text.slice(0, 40)];
}
return worst;
"""


class Browser:
    def __init__(self, driver):
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        self.process = subprocess.Popen([driver, f"--port={port}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.base = f"http://127.0.0.1:{port}"
        self.session = None

    def ask(self, method, path, body=None):
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.base + path, data, {"Content-Type": "application/json"}, method=method)
        with urllib.request.urlopen(request, timeout=60) as answer:
            return json.load(answer)["value"]

    def open(self, dark):
        options = {"args": ["--headless=new", "--no-sandbox", "--disable-gpu"] + (["--force-dark-mode"] if dark else [])}
        wanted = {"goog:chromeOptions": options, "goog:loggingPrefs": {"browser": "ALL"}}
        for attempt in range(50):
            try:
                session = self.ask("POST", "/session", {"capabilities": {"alwaysMatch": wanted}})
                break
            except OSError:
                if attempt == 49:
                    raise
                time.sleep(0.1)
        self.session = f"/session/{session['sessionId']}"

    def close(self):
        self.ask("DELETE", self.session)

    def script(self, text):
        return self.ask("POST", self.session + "/execute/sync", {"script": text, "args": []})

    def keys(self, text):
        actions = [{"type": kind, "value": letter} for letter in text for kind in ("keyDown", "keyUp")]
        self.ask("POST", self.session + "/actions", {"actions": [{"type": "key", "id": "keys", "actions": actions}]})


def look(browser, page, width, dark):
    found = []
    emulated = [{"name": "prefers-color-scheme", "value": "dark" if dark else "light"}]
    command = lambda name, params: browser.ask(
        "POST", browser.session + "/goog/cdp/execute", {"cmd": name, "params": params}
    )
    command("Emulation.setEmulatedMedia", {"features": emulated})
    size = {"width": WIDTHS[width][0], "height": WIDTHS[width][1], "deviceScaleFactor": 1, "mobile": width == "phone"}
    command("Emulation.setDeviceMetricsOverride", size)
    browser.ask("POST", browser.session + "/url", {"url": page.as_uri()})
    opened = []
    for _ in range(3):
        browser.ask("POST", browser.session + "/refresh", {})
        opened.append(browser.script("const [t] = performance.getEntriesByType('navigation'); return t.loadEventEnd;"))
    if not browser.script("return !!document.querySelector('header h1') && !!document.querySelector('main h2');"):
        return 0, 0, ["it is no page of this program"]
    took = sorted(opened)[1]
    if took > 1000:
        found.append(f"it took {took:.0f} ms to open")
    fetched = browser.script("return performance.getEntriesByType('resource').map((one) => one.name);")
    if [one for one in fetched if not one.startswith("data:")]:
        found.append(f"it fetched {fetched}")
    for line in browser.ask("POST", browser.session + "/se/log", {"type": "browser"}):
        found.append(f"the console says {line['message']}")
    over = browser.script("return document.documentElement.scrollWidth - window.innerWidth;")
    if over > 0:
        found.append(f"it is {over} wider than the window")
    ratio, text = browser.script(CONTRAST)
    if ratio < 4.5:
        found.append(f"the contrast of {text!r} is {ratio:.2f}")
    unnamed = browser.script(
        "return [...document.querySelectorAll('input,button,svg,a,table')].filter((one) => one.tagName === 'INPUT'"
        " ? !one.labels.length : one.tagName === 'TABLE' ? !one.querySelector('th[scope]')"
        " : !(one.textContent.trim() || one.ariaLabel)).map((one) => one.outerHTML.slice(0, 60));"
    )
    if unnamed:
        found.append(f"without a name: {unnamed}")
    found.extend(keyboard(browser))
    return took, ratio, found


def keyboard(browser):
    # First the skip link, then the sections, and then the search, each with an outline that is seen.
    if not browser.script("return !!document.querySelector('input[type=search]');"):
        return []
    for step in range(40):
        browser.keys("\ue004")
        where = browser.script(
            "const one = document.activeElement; return [one.type || one.className || one.tagName,"
            " getComputedStyle(one).outlineStyle];"
        )
        if step == 0 and where[0] != "skip":
            return [f"the first stop of the keyboard is {where[0]}"]
        if where[1] == "none":
            return [f"{where[0]} shows no focus"]
        if where[0] == "search":
            break
    else:
        return ["the keyboard does not reach the search"]
    name = browser.script("return document.querySelector('#package-table tbody tr td').textContent;")
    browser.keys(name[:12])
    shown, counted = browser.script(
        "const rows = [...document.querySelectorAll('#package-table tbody tr')].filter((row) => !row.hidden);"
        "return [rows.map((row) => row.cells[0].textContent), document.getElementById('found').textContent];"
    )
    if name not in shown or not counted.startswith(f"{len(shown)} of "):
        return [f"the search for {name} shows {shown[:5]}, and says {counted}"]
    browser.keys("zzzz")
    nothing = browser.script("return document.getElementById('found').textContent;")
    return [] if nothing.startswith("0 of ") else [f"a search for nothing says {nothing}"]


def main():
    driver, *pages = sys.argv[1:]
    browser = Browser(driver)
    failed = False
    try:
        for dark in (False, True):
            browser.open(dark)
            for page in map(pathlib.Path, pages):
                for width in WIDTHS:
                    took, ratio, found = look(browser, page.resolve(), width, dark)
                    kind = f"{page.stem:10} {width:6} {'dark' if dark else 'light':6}"
                    print(f"{kind} {took:5.0f} ms  contrast from {ratio:.1f}  {'; '.join(found) or 'good'}")
                    failed = failed or bool(found)
            browser.close()
    finally:
        browser.process.terminate()
    sys.exit(1 if failed else 0)


main()
