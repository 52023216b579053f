// Looks at a page for the capture: finds, measures and reads, and changes nothing but what it is
// told to. Runs in a world of its own, so that the page's scripts cannot change how it works.
const lark = {
  SMALL: 8,

  all(selector) {
    const found = [];
    const within = (root) => {
      found.push(...root.querySelectorAll(selector));
      if (found.length) return;
      for (const element of root.querySelectorAll("*")) {
        if (element.shadowRoot) within(element.shadowRoot);
      }
    };
    try {
      within(document);
    } catch {
      return [];
    }
    return found;
  },

  shown(element) {
    const box = element.getBoundingClientRect();
    const style = getComputedStyle(element);
    return box.width > 0 && box.height > 0 && style.visibility !== "hidden";
  },

  words(element) {
    return (element.innerText ?? element.textContent ?? "").trim().replace(/\s+/g, " ");
  },

  // A field by the words of its label, or by a selector.
  field(name) {
    const fields = lark.all("input, textarea, select, [contenteditable]").filter(lark.shown);
    const same = (text) => (text ?? "").trim().replace(/\s*[*:]$/, "") === name;
    return (
      fields.find((field) => [...(field.labels ?? [])].some((label) => same(lark.words(label)))) ??
      fields.find((field) => same(field.getAttribute("aria-label"))) ??
      fields.find((field) => same(field.getAttribute("placeholder"))) ??
      lark.all(name).find(lark.shown)
    );
  },

  // Something to press by its words, or by a selector.
  control(name) {
    const controls = lark
      .all("button, a, summary, [role=button], [role=tab], [role=link], input[type=submit], input[type=button]")
      .filter(lark.shown);
    return (
      controls.find((control) => lark.words(control) === name || control.value === name) ??
      controls.find((control) => control.getAttribute("aria-label") === name) ??
      lark.all(name).find(lark.shown)
    );
  },

  focus(name) {
    const field = lark.field(name);
    if (!field) return "missing";
    field.scrollIntoView({ block: "center" });
    field.focus();
    if (field instanceof HTMLSelectElement) return "list";
    field.select?.();
    return "text";
  },

  choose(name, value) {
    const list = lark.field(name);
    const option = [...list.options].find((one) => one.value === value || one.text.trim() === value);
    if (!option) return false;
    list.value = option.value;
    for (const kind of ["input", "change"]) list.dispatchEvent(new Event(kind, { bubbles: true }));
    return true;
  },

  press(name) {
    const control = lark.control(name);
    if (!control) return false;
    control.scrollIntoView({ block: "center" });
    // Answered first: what is pressed may lead to another page.
    setTimeout(() => control.click());
    return true;
  },

  name() {
    return [document.title, location.href];
  },

  host() {
    return location.hostname;
  },

  hasBegun() {
    return location.href !== "about:blank" && document.readyState !== "loading" && Boolean(document.body);
  },

  hasLoaded() {
    return document.readyState === "complete";
  },

  has(selector) {
    return lark.all(selector).some(lark.shown);
  },

  hasField(name) {
    return Boolean(lark.field(name));
  },

  // What has not come yet, in words.
  missing(finished) {
    const missing = [];
    for (const selector of finished.there) {
      if (!lark.has(selector)) missing.push(`"${selector}" is not there`);
    }
    for (const selector of finished.gone) {
      if (lark.has(selector)) missing.push(`"${selector}" is still there`);
    }
    const text = finished.text.length ? document.body.innerText : "";
    for (const wanted of finished.text) {
      if (!text.includes(wanted)) missing.push(`the text "${wanted}" is not there`);
    }
    return missing;
  },

  hide(selectors) {
    for (const selector of selectors) {
      for (const element of lark.all(selector)) element.style.setProperty("display", "none", "important");
    }
  },

  // Empties every field, and takes words out of texts, before a picture is made of a page that
  // somebody was signing in at.
  blank(secrets) {
    for (const field of lark.all("input, textarea")) field.value = "";
    const texts = document.createTreeWalker(document, NodeFilter.SHOW_TEXT);
    while (texts.nextNode()) {
      for (const secret of secrets) {
        if (texts.currentNode.data.includes(secret)) {
          texts.currentNode.data = texts.currentNode.data.replaceAll(secret, "•••");
        }
      }
    }
  },

  size() {
    const root = document.documentElement;
    const body = document.body ?? root;
    return {
      width: Math.ceil(Math.max(root.clientWidth, root.scrollWidth)),
      height: Math.ceil(Math.max(root.scrollHeight, body.scrollHeight, 1)),
    };
  },

  box(element) {
    const box = element.getBoundingClientRect();
    return {
      x: Math.max(0, Math.floor(box.left + scrollX)),
      y: Math.max(0, Math.floor(box.top + scrollY)),
      width: Math.ceil(box.width),
      height: Math.ceil(box.height),
    };
  },

  title(element) {
    const heading = element.querySelector("h1, h2, h3, h4, h5, h6, [role=heading], caption, figcaption, legend");
    const named = document.getElementById(element.getAttribute("aria-labelledby") ?? "");
    const title = heading ? lark.words(heading) : (element.getAttribute("aria-label") ?? (named ? lark.words(named) : ""));
    return title.slice(0, 200);
  },

  // What assistive technology would say of it, else its own text.
  text(element) {
    const drawn = [...element.querySelectorAll("[alt], svg title, canvas[aria-label], svg[aria-label]")];
    const said = drawn.map((one) => one.getAttribute("alt") ?? one.getAttribute("aria-label") ?? one.textContent);
    return [lark.words(element), ...said].filter(Boolean).join(" ").slice(0, 2000);
  },

  parts(selectors) {
    if (!selectors.length) {
      const { width, height } = lark.size();
      const text = lark.words(document.body).slice(0, 2000);
      return [{ asked: null, title: document.title, text, x: 0, y: 0, width, height, cuts: lark.cuts() }];
    }
    return selectors.flatMap((selector, asked) =>
      lark
        .all(selector)
        .filter(lark.shown)
        .slice(0, 50)
        .map((element) => {
          const box = lark.box(element);
          const cuts = lark.cuts().filter((y) => y > box.y && y < box.y + box.height);
          return { asked, title: lark.title(element), text: lark.text(element), ...box, cuts };
        }),
    );
  },

  // Heights at which the page can be cut without cutting through anything: a line of text, a
  // picture, a row of a table, or what is framed or coloured as one block.
  cuts() {
    const { height } = lark.size();
    const whole = [];
    const keep = (box) => box.height > 0 && box.width > 0 && whole.push([box.top + scrollY, box.bottom + scrollY]);
    const clear = (colour) => /^rgba\(.*, 0\)$|^transparent$/.test(colour);
    for (const element of document.body?.querySelectorAll("*") ?? []) {
      const box = element.getBoundingClientRect();
      if (!box.height || !box.width) continue;
      if (/^(img|svg|canvas|video|iframe|object|tr|button|input|select|textarea)$/i.test(element.tagName)) {
        keep(box);
        continue;
      }
      const style = getComputedStyle(element);
      const framed =
        !clear(style.backgroundColor) || style.backgroundImage !== "none" || style.boxShadow !== "none" ||
        (parseFloat(style.borderTopWidth) > 0 && parseFloat(style.borderBottomWidth) > 0);
      if (framed && box.height < Math.min(900, height * 0.6)) {
        keep(box);
      } else if ([...element.childNodes].some((node) => node.nodeType === 3 && node.data.trim())) {
        const lines = document.createRange();
        lines.selectNodeContents(element);
        for (const line of lines.getClientRects()) keep(line);
      }
    }
    whole.sort((a, b) => a[0] - b[0]);
    const cuts = [];
    let end = 0;
    for (const [top, bottom] of whole) {
      if (top > end + 1 && end > 0) cuts.push(Math.round((end + top) / 2));
      end = Math.max(end, bottom);
    }
    return cuts.slice(0, 2000);
  },

  // A table's rows as texts, the names of its columns first. A cell that spans several stands in
  // each of them.
  table(selector, most) {
    const found = lark.all(selector).find(lark.shown);
    if (!found) return null;
    const table = found.matches("table, [role=table], [role=grid]") ? found : (found.querySelector("table, [role=table], [role=grid]") ?? found);
    const rows = [];
    const spans = new Map();
    const lines = table.rows ? [...table.rows] : [...table.querySelectorAll("[role=row]")];
    for (const line of lines) {
      const row = [];
      const cells = line.cells ? [...line.cells] : [...line.querySelectorAll("[role=cell], [role=gridcell], [role=columnheader], [role=rowheader]")];
      const covered = () => {
        while (spans.get(row.length)?.left > 0) {
          const span = spans.get(row.length);
          span.left -= 1;
          row.push(span.text);
        }
      };
      for (const cell of cells) {
        covered();
        const text = lark.words(cell);
        const down = Math.min(cell.rowSpan ?? 1, 1000);
        for (let across = Math.min(cell.colSpan ?? 1, 100); across > 0; across -= 1) {
          if (down > 1) spans.set(row.length, { left: down - 1, text });
          row.push(text);
        }
      }
      covered();
      rows.push(row);
      if (rows.length > most) break;
    }
    return rows;
  },

  // Parts that somebody may want, each with a selector that leads to it and to nothing else.
  outline() {
    const only = (selector) => lark.all(selector).length === 1;
    const selector = (element) => {
      const quoted = (value) => JSON.stringify(value);
      const made = (id) => /\d{4,}|[:]/.test(id);
      if (element.id && !made(element.id)) {
        const by = `#${CSS.escape(element.id)}`;
        if (only(by)) return by;
      }
      for (const name of ["data-testid", "data-panel", "data-name", "aria-label", "aria-labelledby"]) {
        const value = element.getAttribute(name);
        const by = value && `[${name}=${quoted(value)}]`;
        if (by && only(by)) return by;
      }
      const parent = element.parentElement;
      if (!parent || parent === document.documentElement) return element.tagName.toLowerCase();
      const alike = [...parent.children].filter((one) => one.tagName === element.tagName);
      const nth = alike.length > 1 ? `:nth-of-type(${alike.indexOf(element) + 1})` : "";
      return `${selector(parent)} > ${element.tagName.toLowerCase()}${nth}`;
    };
    const wanted = "section, article, figure, table, aside, main, nav, header, footer, form, [role=region], [role=figure], [aria-label], [data-testid], [data-panel], canvas, svg, div[id], div[class]";
    return lark
      .all(wanted)
      .filter((element) => lark.shown(element))
      .map((element) => ({ ...lark.box(element), element }))
      .filter((box) => box.width >= 60 && box.height >= 30)
      .slice(0, 150)
      .map(({ element, ...box }) => ({
        selector: selector(element),
        title: lark.title(element) || element.tagName.toLowerCase(),
        is_table: element.matches("table, [role=table], [role=grid]"),
        ...box,
      }));
  },

  kept() {
    try {
      return Object.entries(localStorage);
    } catch {
      return [];
    }
  },
};
