"""Opens a page in a browser, tries it, and prints what was seen, as JSON.

    look.py PAGE [AXE] [SHOTS]

AXE is the file of axe-core, which judges how accessible the page is; SHOTS a folder for pictures.
Ends with 77 where there is no browser that can be driven.
"""

import json
import sys
import time

try:
    from selenium import webdriver
    from selenium.webdriver.chrome.options import Options
    from selenium.webdriver.chrome.service import Service
    from selenium.webdriver.common.by import By
    from selenium.webdriver.common.keys import Keys
    from selenium.webdriver.support.ui import Select
except ImportError:
    print("selenium")
    sys.exit(77)
import shutil

page, axe, shots = (sys.argv[1:] + [None, None])[:3]
driver, browser = shutil.which("chromedriver"), shutil.which("chromium")
if not driver or not browser:
    print("chromium and chromedriver")
    sys.exit(77)

options = Options()
options.binary_location = browser
for word in ("--headless=new", "--no-sandbox", "--hide-scrollbars", "--disable-dev-shm-usage"):
    options.add_argument(word)
options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
web = webdriver.Chrome(service=Service(driver), options=options)
seen = {}


def emulate(width, height, scheme):
    web.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 500},
    )
    features = {"prefers-color-scheme": scheme, "prefers-reduced-motion": "reduce"}
    features = [{"name": name, "value": value} for name, value in features.items()]
    web.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})


def shoot(width, scheme):
    for part in ("overview", "matrix", "numbers") if shots else ():
        # What is seen first has its heading above it.
        to = "scrollTo(0, 0)" if part == "overview" else f"document.getElementById('{part}')?.scrollIntoView()"
        web.execute_script(to)
        web.save_screenshot(f"{shots}/{part}-{width}-{scheme}.png")


def first(table):
    return web.execute_script(
        "const row = document.querySelector(arguments[0] + ' tbody tr'); return row && row.cells[0].textContent", table
    )


def rows(table):
    return web.execute_script("return document.querySelectorAll(arguments[0] + ' tbody tr').length", table)


def typed(selector, text):
    field = web.find_element(By.CSS_SELECTOR, selector)
    field.clear()
    field.send_keys(text)
    # Clearing says nothing to the page.
    if not text:
        field.send_keys("x", Keys.BACKSPACE)


try:
    emulate(1280, 800, "light")
    web.execute_cdp_cmd(
        "Page.addScriptToEvaluateOnNewDocument",
        {
            "source": "window.shifted = 0; new PerformanceObserver(list => { for (const one of list.getEntries())"
            " window.shifted += one.value }).observe({type: 'layout-shift', buffered: true})"
        },
    )
    began = time.perf_counter()
    web.get("file://" + page)
    seen["seconds"] = round(time.perf_counter() - began, 2)
    seen["shifted"] = web.execute_script("return window.shifted")
    requests = []
    for entry in web.get_log("performance"):
        message = json.loads(entry["message"])["message"]
        if message["method"] == "Network.requestWillBeSent":
            requests.append(message["params"]["request"]["url"])
    seen["requests"] = [url for url in requests if not url.startswith(("data:", "chrome"))]
    seen["tried"] = web.execute_script("return window.tried === undefined ? null : window.tried")

    # As it comes, before anything is tried.
    shoot(1280, "light")

    has = lambda selector: bool(web.find_elements(By.CSS_SELECTOR, selector))
    if has("#users-table"):
        users = seen["users"] = {"rows": rows("#users-table"), "first": first("#users-table")}
        heading = web.find_element(By.CSS_SELECTOR, "#users-table thead th button")
        heading.send_keys(Keys.ENTER)
        users["by name"] = first("#users-table")
        heading.send_keys(Keys.SPACE)
        users["by name, backwards"] = first("#users-table")
        users["sort"] = heading.find_element(By.XPATH, "..").get_attribute("aria-sort")
        number = web.find_elements(By.CSS_SELECTOR, "#users-table thead th[data-number] button")[0]
        web.execute_script("arguments[0].click()", number)
        users["by number"] = first("#users-table")
        tools = ".tools[data-for=users-table] "
        typed(tools + "input", "sunniva")
        users["sunniva"] = rows("#users-table")
        users["count"] = web.find_element(By.CSS_SELECTOR, tools + ".count").text
        typed(tools + "input", "")
        choice = web.find_element(By.CSS_SELECTOR, tools + "select")
        Select(choice).select_by_value("service")
        users["services"] = rows("#users-table")
        Select(choice).select_by_value("")
        later = web.find_element(By.CSS_SELECTOR, tools + ".later")
        users["more"] = later.is_enabled()
        if users["more"]:
            web.execute_script("arguments[0].click()", later)
            users["second page"] = web.find_element(By.CSS_SELECTOR, tools + ".count").text
    if has("#matrix-data"):
        matrix = seen["matrix"] = {"rows": rows(".matrix"), "first": first(".matrix")}
        matrix["columns"] = web.execute_script("return document.querySelectorAll('.matrix thead th').length")
        matrix["primary"] = web.execute_script("return document.querySelectorAll('.matrix td.p').length")
        matrix["listed"] = web.execute_script("return document.querySelectorAll('.matrix td.l').length")
        began = time.perf_counter()
        web.execute_script("document.querySelectorAll('.matrix thead button')[1].click()")
        matrix["seconds"] = round(time.perf_counter() - began, 2)
        matrix["by group"] = first(".matrix")
        typed(".tools[data-matrix] .groups", "pilot")
        matrix["pilot"] = web.execute_script("return document.querySelectorAll('.matrix thead th').length")
        typed(".tools[data-matrix] .people", "tavish")
        matrix["tavish"] = rows(".matrix")
        typed(".tools[data-matrix] .groups", "")
        typed(".tools[data-matrix] .people", "")
    if has(".map"):
        map_of = seen["map"] = {}
        ticks = "return [...document.querySelectorAll('.map .ticks text')].slice(0, 3).map(one => one.textContent)"
        map_of["whole"] = web.execute_script(ticks)
        web.execute_script("document.querySelector('.map .in').click()")
        map_of["closer"] = web.execute_script(ticks)
        web.execute_script("document.querySelector('.map .all').click()")
        map_of["whole again"] = web.execute_script(ticks)
    if has("details[id^=change]"):
        link = web.execute_script("return document.querySelector('details[id^=change]').id")
        web.execute_script("location.hash = arguments[0]", link)
        time.sleep(0.2)
        seen["opened"] = web.execute_script("return document.getElementById(arguments[0]).open", link)

    seen["wide"] = {}
    seen["faults"] = []
    for width, height in ((1280, 800), (390, 844)):
        for scheme in ("light", "dark"):
            emulate(width, height, scheme)
            seen["wide"][str(width)] = web.execute_script("return document.documentElement.scrollWidth")
            if (width, scheme) != (1280, "light"):
                shoot(width, scheme)
            if axe:
                web.execute_script(open(axe).read())
                web.set_script_timeout(300)
                found = web.execute_async_script(
                    "const done = arguments[0]; axe.run(document, {resultTypes: ['violations']})"
                    ".then(found => done(found.violations), fault => done([{id: String(fault), impact: 'serious', nodes: []}]))"
                )
                for one in found:
                    if one["impact"] in ("serious", "critical"):
                        at = one["nodes"][0]["html"][:200] if one["nodes"] else ""
                        seen["faults"].append(f"{one['id']} at {width} {scheme}: {at}")
    seen["console"] = [entry["message"] for entry in web.get_log("browser")]
    print(json.dumps(seen))
finally:
    web.quit()
