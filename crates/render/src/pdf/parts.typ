// What reports are put together from. None of it reads a document: the typesetter looks at each function once, and
// not for every document again. What the functions go by is `given`: colours, the statuses and the choices of the
// theme.

// What functions need of whole libraries has a name of its own: the typesetter looks at all that a function refers to.
#let least = calc.min
#let list-of = std.list

#let section-heading(given, it) = block(above: 20pt * given.air, below: 9pt * given.air, sticky: true, {
  set text(size: 13pt, weight: 600, fill: given.accent)
  it.body
  v(-7pt)
  line(length: 100%, stroke: 0.8pt + given.rule)
})

#let block-heading(given, it) = block(above: 0pt, below: 6pt, sticky: true, text(size: 9.5pt, weight: 600, fill: given.ink, it.body))

#let runs(list) = for run in list {
  let body = if run.code { raw(run.text) } else { run.text.split("\n").map(text).join(linebreak()) }
  if run.strong { body = strong(body) }
  if run.emphasis { body = emph(body) }
  if run.link != none { link(run.link, body) } else { body }
}

#let parts(given, list) = for part in list {
  if part.kind == "heading" { par(strong(runs(part.runs))) } else if part.kind == "paragraph" { par(runs(part.runs)) } else if part.ordered {
    enum(..part.items.map(runs))
  } else { list-of(marker: text(fill: given.muted, "•"), ..part.items.map(runs)) }
}

#let figures(given, body) = {
  grid(
    columns: (1fr,) * body.across,
    gutter: 7pt,
    ..body.figures.map(figure => {
      let status = if figure.status != none { given.statuses.at(figure.status) } else { none }
      let marked = figure.status in ("warning", "critical")
      let edge = if marked { status.ink } else { given.rule }
      grid.cell(inset: (x: 9pt, y: 8pt), fill: if marked { status.paper } else { given.shade }, stroke: (left: 2.5pt + edge), breakable: body.tall, {
        set par(spacing: 6pt)
        par(text(size: 7.5pt, fill: given.muted, figure.title))
        par(text(size: figure.size * 1pt, weight: 600, fill: if marked { edge } else { given.ink }, figure.value))
        if figure.change != none { par(text(size: 7.5pt, fill: given.ink, figure.change)) }
        if "spark" in figure { image("/" + figure.spark, width: 100%, height: 16pt, fit: "stretch", alt: figure.title + " over the window, a line without axes") }
        if status != none { par(text(size: 7.5pt, fill: status.ink, weight: 600)[#status.mark #status.word]) }
        if figure.limits != none { par(text(size: 7.5pt, fill: given.muted, figure.limits)) }
      })
    }),
  )
}

#let captions(given, content) = {
  let parts = content.marks.map(mark => [#given.statuses.at(mark).mark #given.statuses.at(mark).word.])
  if content.cut != none {
    let there = content.file in given.attached
    parts.push(emph[#content.cut#if there [ All that were read are attached, in #content.file.]])
  }
  if parts.len() > 0 { par(text(size: 7.5pt, fill: given.muted, parts.join(h(8pt)))) }
}

#let heading-cells(given, headings) = headings.map(h => text(weight: 600, fill: given.muted, if h.unit == "" { h.title } else { [#h.title #text(weight: 400)[(#h.unit)]] }))
#let sides(headings) = headings.map(h => if h.align == "right" { right } else { left })

// A table whose rows are empty, each one cell: what its cells say is set when their place is known.
#let fitted-table(given, part) = {
  set text(size: part.size * 1pt)
  table(
    columns: part.widths.map(width => width * 1pt),
    rows: (auto,) + part.heights.map(height => height * 1pt),
    align: sides(part.headings),
    inset: (x: 4pt, y: 3.6pt),
    // Lines between rows are set with the cells: as strokes, each cell's tag would describe them.
    stroke: none,
    table.header(..heading-cells(given, part.headings), table.hline(stroke: 0.9pt + given.muted)),
    ..(table.cell(colspan: part.widths.len())[],) * part.count,
  )
}

#let fitted-tables(given, content) = {
  for (index, part) in content.parts.enumerate() {
    if content.parts.len() > 1 {
      let first = part.headings.at(if index == 0 { 0 } else { 1 }).title
      block(above: 10pt, below: 5pt, sticky: true, text(size: 7.5pt, fill: given.muted)[
        Columns from #strong(first) to #strong(part.headings.last().title) (part #(index + 1) of #content.parts.len())
      ])
    }
    fitted-table(given, part)
  }
  captions(given, content)
}

// A table that the typesetter sets: one with letters that change with their neighbours.
#let shown-table(given, content) = {
  set text(size: content.size * 1pt, kerning: given.backwards, ligatures: given.backwards)
  let rows = if content.one_line { (auto, 14.4pt) } else { auto }
  // A loop is several times faster than a function called for each cell.
  let cells = ()
  for cell in content.cells {
    cells.push(if type(cell) == str { cell } else if "line" in cell { image("/" + cell.line, width: 60pt, height: 9pt, fit: "stretch", alt: cell.text) } else {
      let shown = if cell.mark == none { text(weight: 600, cell.text) } else {
        let status = given.statuses.at(cell.mark)
        text(fill: status.ink, weight: 600)[#status.mark #cell.text]
      }
      if "sum" in cell { table.cell(fill: given.shade, shown) } else { shown }
    })
  }
  table(
    columns: content.shares.map(share => share * 100%),
    rows: rows,
    align: sides(content.headings),
    inset: (x: 4pt, y: 3.6pt),
    // A function for each cell's stroke would be called for each of them.
    stroke: (bottom: 0.4pt + given.rule, rest: none),
    table.header(
      ..heading-cells(given, content.headings),
      table.hline(stroke: 0.9pt + given.muted),
    ),
    ..cells,
  )
  captions(given, content)
}

#let notice(mark, colour, paper, body) = block(width: 100%, inset: 9pt, radius: 2pt, fill: paper, stroke: (left: 2.5pt + colour), {
  text(fill: colour, weight: 600)[#mark #h(2pt)]
  body
})

// A live page, or parts of it, in pieces that fit on sheets.
#let captured-page(given, body, title) = {
  for part in body.parts {
    if part.title != "" and part.title != title { block(above: 9pt, below: 4pt, sticky: true, text(size: 8.5pt, weight: 600, fill: given.muted, part.title)) }
    for (index, piece) in part.pieces.enumerate() {
      block(
        width: piece.width * 1pt,
        height: piece.height * 1pt,
        clip: true,
        stroke: 0.5pt + given.rule,
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
  par(text(size: 7pt, fill: given.muted)[As the page looked: #link(body.address, body.place)])
}

#let shown-block(given, block-data, name) = {
  let body = block-data.body
  if block-data.title != "" { heading(level: 3, block-data.title) }
  if body.kind == "figures" { figures(given, body) } else if body.kind == "chart" {
    image("/" + name, width: 100%, alt: body.chart.description)
  } else if body.kind == "table" { if "parts" in body.table { fitted-tables(given, body.table) } else { shown-table(given, body.table) } } else if body.kind == "text" { parts(given, body.parts) } else if body.kind == "page" { captured-page(given, body, block-data.title) } else if body.kind == "image" { image("/" + body.name, width: auto, alt: body.description) } else if body.kind == "empty" {
    notice("○", given.muted, given.shade, body.sentence)
  } else {
    notice("◆", given.statuses.critical.ink, given.statuses.critical.paper)[This block could not be made: #body.reason]
  }
  if block-data.note != none { par(text(size: 7.5pt, fill: given.muted, block-data.note)) }
}

// Goes to the next page unless there is so much room on this one.
#let room-for(height) = {
  block(width: 100%, height: height, above: 0pt, below: 0pt, breakable: false)
  v(-height)
}

// Everything that is drawn stays together with its own, unless it may run over pages.
#let may-break(block-data) = {
  let body = block-data.body
  block-data.breaks or (body.kind == "page" and body.parts.map(part => part.pieces.len()).sum() > 1) or (body.kind == "table" and body.table.breaks)
}
#let anchor(section, block) = label("block-" + str(section + 1) + "-" + str(block + 1))
// An address that becomes the place on the pages when these are laid out: asked for it meanwhile, the
// typesetter would lay out all of them a second time.
#let leading-to(place) = "place:" + str(anchor(place.section, place.block))
#let leads(given, place) = place != none and place.block < given.block-counts.at(place.section, default: 0)
// A page that lies holds one wide table, and the section's heading if it comes first.
#let lies(block-data) = block-data != none and block-data.body.kind == "table" and "lying" in block-data.body.table
#let placed(given, block-data, section, block-index) = [#block(
  width: 100%,
  breakable: may-break(block-data),
  below: 13pt * given.air,
  {
    if block-data.body.kind == "table" and may-break(block-data) { room-for(96pt) }
    shown-block(given, block-data, "chart-" + str(section) + "-" + str(block-index) + ".svg")
  },
)#anchor(section, block-index)]
