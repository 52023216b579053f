// The one page layout of Maple Lark. It reads /data.json and the charts beside it.
#let data = json("/data.json")
#let doc = data.document
#let front = doc.front
#let ink = rgb(data.colours.ink)
#let muted = rgb(data.colours.muted)
#let rule = rgb(data.colours.rule)
#let shade = rgb(data.colours.shade)
#let accent = rgb(data.colours.accent)
#let theme = doc.theme
// What functions need has names of its own, be it of the data or of a whole library: the typesetter looks
// at all that a function refers to whenever it has not seen it before.
#let (remainder, quotient, least, greatest) = (calc.rem, calc.quo, calc.min, calc.max)
#let list-of = std.list
#let backwards = data.backwards
#let attached = data.attached.map(file => file.name)
#let block-counts = doc.sections.map(section => section.blocks.len())
#let statuses = {
  let all = (:)
  for (name, status) in data.statuses { all.insert(name, (word: status.word, mark: status.mark, ink: rgb(status.ink), paper: rgb(status.paper))) }
  all
}
#let air = if theme.compact { 0.72 } else { 1 }

#set document(title: doc.title + " – " + front.window_label, author: "Maple Lark", date: auto)
// Inter, and for letters that it lacks whatever else is provided.
#set text(font: "Inter", fallback: true, size: if theme.compact { 8.3pt } else { 9pt }, fill: ink, lang: doc.language, number-width: "tabular")
#set par(leading: 0.6em, spacing: 0.9em)
#set page(
  paper: if theme.paper == "letter" { "us-letter" } else { "a4" },
  flipped: theme.landscape,
  fill: if theme.dark { rgb(data.colours.paper) } else { none },
  margin: (x: theme.margin * 1mm, top: theme.margin * 1mm + 2mm, bottom: theme.margin * 1mm + 1mm),
  // Pictures that stand for what is set when the number of pages is known.
  header: image("/header.svg", width: 100%, height: 20pt, fit: "stretch", alt: "header"),
  footer: image("/footer.svg", width: 100%, height: 20pt, fit: "stretch", alt: "footer"),
)
#show heading.where(level: 1): set text(size: 20pt, weight: 700, fill: ink)
#show heading.where(level: 2): it => block(above: 20pt * air, below: 9pt * air, sticky: true, {
  set text(size: 13pt, weight: 700, fill: accent)
  it.body
  v(-7pt)
  line(length: 100%, stroke: 0.8pt + rule)
})
#show heading.where(level: 3): it => block(above: 0pt, below: 6pt, sticky: true, text(size: 9.5pt, weight: 600, fill: ink, it.body))
#show raw: set text(font: "Inter", size: 1.12em)
#show link: set text(fill: accent)

#let runs(list) = for run in list {
  let body = if run.code { raw(run.text) } else { run.text.split("\n").map(text).join(linebreak()) }
  if run.strong { body = strong(body) }
  if run.emphasis { body = emph(body) }
  if run.link != none { link(run.link, body) } else { body }
}

#let parts(list) = for part in list {
  if part.kind == "heading" { par(strong(runs(part.runs))) } else if part.kind == "paragraph" { par(runs(part.runs)) } else if part.ordered {
    enum(..part.items.map(runs))
  } else { list-of(marker: text(fill: muted, "•"), ..part.items.map(runs)) }
}

#let figures(list, width) = {
  let most = if theme.landscape { 5 } else if remainder(list.len(), 4) == 0 or list.len() > 6 { 4 } else { 3 }
  let count = least(list.len(), if width == 12 { most } else { greatest(1, quotient(most * width, 12)) })
  grid(
    columns: (1fr,) * count,
    gutter: 7pt,
    ..list.map(figure => {
      let status = if figure.status != none { statuses.at(figure.status) } else { none }
      let marked = figure.status in ("warning", "critical")
      let edge = if marked { status.ink } else { rule }
      grid.cell(inset: (x: 9pt, y: 8pt), fill: if marked { status.paper } else { shade }, stroke: (left: 2.5pt + edge), breakable: false, {
        set par(spacing: 6pt)
        par(text(size: 7.5pt, fill: muted, figure.title))
        par(text(size: if figure.value.len() > 13 { 11pt } else { 16pt }, weight: 600, fill: if marked { edge } else { ink }, figure.value))
        if figure.change != none { par(text(size: 7.5pt, fill: ink, figure.change)) }
        if "spark" in figure { image("/" + figure.spark, width: 100%, height: 16pt, fit: "stretch", alt: figure.title + " over the window, a line without axes") }
        if status != none { par(text(size: 7.5pt, fill: status.ink, weight: 600)[#status.mark #status.word]) }
        if figure.limits != none { par(text(size: 7.5pt, fill: muted, figure.limits)) }
      })
    }),
  )
}

#let captions(content) = {
  let parts = content.marks.map(mark => [#statuses.at(mark).mark #statuses.at(mark).word.])
  if content.cut != none {
    let there = content.file in attached
    parts.push(emph[#content.cut#if there [ All that were read are attached, in #content.file.]])
  }
  if parts.len() > 0 { par(text(size: 7.5pt, fill: muted, parts.join(h(8pt)))) }
}

#let heading-cells(headings) = headings.map(h => text(weight: 600, fill: muted, if h.unit == "" { h.title } else { [#h.title #text(weight: 400)[(#h.unit)]] }))
#let sides(headings) = headings.map(h => if h.align == "right" { right } else { left })

// A table whose cells are empty: what they say is set in them when their place is known.
#let fitted-table(part) = {
  set text(size: part.size * 1pt)
  table(
    columns: part.widths.map(width => width * 1pt),
    rows: (auto,) + part.heights.map(height => height * 1pt),
    align: sides(part.headings),
    inset: (x: 4pt, y: 3.6pt),
    // Lines between rows are set with the cells: as strokes, each cell's tag would describe them.
    stroke: none,
    table.header(..heading-cells(part.headings), table.hline(stroke: 0.9pt + muted)),
    ..([],) * (part.count * part.widths.len()),
  )
}

#let fitted-tables(content) = {
  for (index, part) in content.parts.enumerate() {
    if content.parts.len() > 1 {
      let first = part.headings.at(if index == 0 { 0 } else { 1 }).title
      block(above: 10pt, below: 5pt, sticky: true, text(size: 7.5pt, fill: muted)[
        Columns from #strong(first) to #strong(part.headings.last().title) (part #(index + 1) of #content.parts.len())
      ])
    }
    fitted-table(part)
  }
  captions(content)
}

// A table that the typesetter sets: one with letters that change with their neighbours.
#let shown-table(content, width) = {
  let total = content.headings.map(h => h.weight).sum()
  let wide = content.headings.len() > 7
  set text(size: if wide { 7pt } else { 8pt }, kerning: backwards, ligatures: backwards)
  // Columns take what they need: a narrow table does not sprawl over the page.
  let fits = if width == 12 { 80 } else { 80 * width / 12 }
  let room = greatest(total, if width == 12 and content.headings.len() <= 3 { 60 } else { fits })
  let columns = content.headings.map(h => h.weight / room * 100%)
  // Where every text fits on one line, rows have one height and need not be measured.
  let rows = if total <= fits and not wide { (auto, 14.4pt) } else { auto }
  // A loop is several times faster than a function called for each cell.
  let cells = ()
  for cell in content.cells {
    cells.push(if type(cell) == str { cell } else if "line" in cell { image("/" + cell.line, width: 60pt, height: 9pt, fit: "stretch", alt: cell.text) } else {
      let shown = if cell.mark == none { text(weight: 600, cell.text) } else {
        let status = statuses.at(cell.mark)
        text(fill: status.ink, weight: 600)[#status.mark #cell.text]
      }
      if "sum" in cell { table.cell(fill: shade, shown) } else { shown }
    })
  }
  table(
    columns: columns,
    rows: rows,
    align: sides(content.headings),
    inset: (x: 4pt, y: 3.6pt),
    // A function for each cell's stroke would be called for each of them.
    stroke: (bottom: 0.4pt + rule, rest: none),
    table.header(
      ..heading-cells(content.headings),
      table.hline(stroke: 0.9pt + muted),
    ),
    ..cells,
  )
  captions(content)
}

#let notice(mark, colour, paper, body) = block(width: 100%, inset: 9pt, radius: 2pt, fill: paper, stroke: (left: 2.5pt + colour), breakable: false, {
  text(fill: colour, weight: 600)[#mark #h(2pt)]
  body
})

// A live page, or parts of it, in pieces that fit on sheets.
#let captured-page(body, title) = {
  for part in body.parts {
    if part.title != "" and part.title != title { block(above: 9pt, below: 4pt, sticky: true, text(size: 8.5pt, weight: 600, fill: muted, part.title)) }
    for (index, piece) in part.pieces.enumerate() {
      block(
        width: piece.width * 1pt,
        height: piece.height * 1pt,
        clip: true,
        stroke: 0.5pt + rule,
        breakable: false,
        above: if index == 0 { 0pt } else { 6pt },
        below: 6pt,
        place(top + left, dx: -piece.x * 1pt, dy: -piece.y * 1pt, image(
          "/" + piece.name,
          width: piece.full_width * 1pt,
          height: piece.full_height * 1pt,
          fit: "stretch",
          alt: if index == 0 { part.description } else { part.title + ", continued" },
        )),
      )
    }
  }
  par(text(size: 7pt, fill: muted)[As the page looked: #link(body.address, body.place)])
}

#let shown-block(block-data, name) = {
  let body = block-data.body
  if block-data.title != "" { heading(level: 3, block-data.title) }
  if body.kind == "figures" { figures(body.figures, block-data.width) } else if body.kind == "chart" {
    image("/" + name, width: 100%, alt: body.chart.description)
  } else if body.kind == "table" { if "parts" in body.table { fitted-tables(body.table) } else { shown-table(body.table, block-data.width) } } else if body.kind == "text" { parts(body.parts) } else if body.kind == "page" { captured-page(body, block-data.title) } else if body.kind == "image" { image("/" + body.name, width: auto, alt: body.description) } else if body.kind == "empty" {
    notice("○", muted, shade, body.sentence)
  } else {
    notice("◆", statuses.critical.ink, statuses.critical.paper)[This block could not be made: #body.reason]
  }
  if block-data.note != none { par(text(size: 7.5pt, fill: muted, block-data.note)) }
}

// Goes to the next page unless there is so much room on this one.
#let room-for(height) = {
  block(width: 100%, height: height, above: 0pt, below: 0pt, breakable: false)
  v(-height)
}

// A table may run over pages if some rows of it stand under its heading; everything else that is
// drawn stays together with its own.
#let may-break(body) = body.kind == "text" or (body.kind == "page" and body.parts.map(part => part.pieces.len()).sum() > 1) or (body.kind == "table" and body.table.count > 8)
#let anchor(section, block) = label("block-" + str(section + 1) + "-" + str(block + 1))
// An address that becomes the place on the pages when these are laid out: asked for it meanwhile, the
// typesetter would lay out all of them a second time.
#let leading-to(place) = "place:" + str(anchor(place.section, place.block))
#let leads(place) = place != none and place.block < block-counts.at(place.section, default: 0)
#let placed(block-data, name, place) = [#block(
  width: 100%,
  breakable: may-break(block-data.body),
  below: 13pt * air,
  {
    if block-data.body.kind == "table" and may-break(block-data.body) { room-for(96pt) }
    shown-block(block-data, name)
  },
)#place]

// Front
#if theme.logo != none or theme.organisation != none {
  block(below: 12pt, grid(
    columns: (auto, 1fr),
    gutter: 9pt,
    align: horizon,
    if theme.logo != none { image("/" + theme.logo, height: 24pt, alt: if theme.organisation != none { theme.organisation } else { "Logo" }) },
    if theme.organisation != none { text(size: 10pt, weight: 600, fill: muted, theme.organisation) },
  ))
}
#if theme.cover { v(30%) }
#block(below: 10pt, heading(level: 1, outlined: false, bookmarked: true, doc.title))
#block(below: 7pt, text(size: 12.5pt, weight: 600, fill: accent, front.window_label))
#block(below: 11pt, text(size: 8pt, fill: muted, front.window_exact))

#let verdict = statuses.at(doc.summary.status)
#block(width: 100%, inset: 10pt, radius: 2pt, fill: verdict.paper, stroke: (left: 3pt + verdict.ink), below: 11pt, {
  text(size: 11pt, weight: 700, fill: verdict.ink)[#verdict.mark #h(3pt) #doc.summary.headline]
  if doc.summary.lines.len() > 0 {
    v(-3pt)
    std.list(marker: text(fill: verdict.ink, "–"), spacing: 5pt, ..doc.summary.lines.map(line => if leads(line.place) { link(leading-to(line.place), text(fill: ink, line.text)) } else { text(line.text) }))
  }
})

#block(below: 4pt, {
  set text(size: 8pt)
  let rows = (("Made", front.made_at + if front.scheduled_for != none { " (scheduled for " + front.scheduled_for + ")" }), ("From", front.sources.join(", ")))
  if front.compared_with != none { rows.push(("Compared", "with " + front.compared_with)) }
  if front.filters.len() > 0 { rows.push(("Filters", front.filters.map(f => f.at(0) + ": " + f.at(1)).join(" · "))) }
  grid(
    columns: (44pt, 1fr),
    row-gutter: 5pt,
    ..rows.map(row => (text(fill: muted, row.at(0)), row.at(1))).flatten(),
  )
})

#if theme.contents {
  block(above: 16pt, below: 6pt, text(size: 11pt, weight: 600, fill: accent, "Contents"))
  // A long one stands in two columns, so that it needs no page of its own.
  let entries = doc.sections.map(section => 1 + section.blocks.filter(one => one.title != "").len()).sum(default: 0)
  if entries > 24 { block(height: calc.ceil((entries + 2) / 2) * 14.2pt, columns(2, gutter: 18pt, outline(title: none, depth: 3, indent: 10pt))) } else { outline(title: none, depth: 3, indent: 10pt) }
}
#if theme.cover { pagebreak() }

#for file in data.attached {
  pdf.attach("/" + file.name, relationship: "data", mime-type: "text/csv", description: file.title)
}

#for (section-index, section) in doc.sections.enumerate() {
  if theme.new_pages and section-index > 0 { pagebreak(weak: true) }
  // A page that lies holds one wide table, and the section's heading if it comes first.
  let lies(block-data) = block-data != none and block-data.body.kind == "table" and "lying" in block-data.body.table
  let opening = {
    heading(level: 2, section.title)
    // Neither the heading nor the words under it stand alone at the end of a page.
    if section.text.len() > 0 { block(below: 11pt, sticky: true, parts(section.text)) }
  }
  if not lies(section.blocks.at(0, default: none)) { opening }
  for row in section.rows {
    let place(i) = anchor(section-index, i)
    let name(i) = "chart-" + str(section-index) + "-" + str(i) + ".svg"
    let one = section.blocks.at(row.first())
    if one.body.kind == "page-break" {
      pagebreak(weak: true)
    } else if lies(one) {
      page(flipped: true, {
        if row.first() == 0 { opening }
        placed(one, name(row.first()), place(row.first()))
      })
    } else if one.width == 12 {
      placed(one, name(row.first()), place(row.first()))
    } else {
      let blocks = row.map(i => section.blocks.at(i))
      grid(columns: blocks.map(one => one.room * 1pt), column-gutter: 14pt, ..row.map(i => placed(section.blocks.at(i), name(i), place(i))))
    }
  }
}

#if theme.provenance [
#if data.missing.len() > 0 {
  par(text(size: 7.5pt, fill: muted)[
    Letters that no font here has, and that are therefore not shown (#data.missing.len()): #data.missing.slice(0, calc.min(12, data.missing.len())).join(", "). HTML and CSV have them.
  ])
}

// Provenance, where there is room for its heading and the first queries.
#room-for(130pt)
#heading(level: 2)[How this was made]
#block(below: 8pt, text(size: 8pt)[
  Every figure above comes from one snapshot of the data below, taken for the window
  #front.window_machine by run #front.run_id.#if front.zone_rules != none [ Time zones by the rules of #front.zone_rules.] SHA-256 is that of the rows as the snapshot holds them.#if front.archive_head != none [ What was made before is chained: the archive's day #front.archive_head.split(" ").at(0) has the digest #raw(front.archive_head.split(" ").at(1)).]
])
#let made = data.provenance
#if made.same != none { block(below: 8pt, text(size: 8pt, made.same)) }
#if made.part != none { fitted-table(made.part) } else if not made.empty {
  let same = made.same != none
  let count = made.headings.len()
  // A digest may be broken in its middle.
  let shown((i, cell)) = if i + 1 < count or same or cell.text.len() < 64 { cell.text } else { cell.text.slice(0, 32) + sym.zws + cell.text.slice(32) }
  // Shaping without is faster, but leaves text from right to left in the wrong order.
  set text(size: 7.5pt, kerning: backwards, ligatures: backwards)
  table(
    columns: if same { (1fr, auto, auto, auto, auto) } else { (2.2fr, 1.6fr, 1.4fr, 0.8fr, 0.7fr, 3.3fr) },
    align: sides(made.headings),
    inset: (x: 4pt, y: 3.4pt),
    stroke: (bottom: 0.4pt + rule, rest: none),
    table.header(..heading-cells(made.headings), table.hline(stroke: 0.9pt + muted)),
    ..made.rows.zip(made.details).map(((row, detail)) => row.enumerate().map(shown) + if detail != none { (table.cell(colspan: count, text(fill: muted, detail)),) }).flatten(),
  )
}
]
