// The one page layout of Maple Lark. It reads /data.json and the charts beside it.
#import "/parts.typ": *
#let data = json("/data.json")
#let doc = data.document
#let front = doc.front
#let ink = rgb(data.colours.ink)
#let muted = rgb(data.colours.muted)
#let rule = rgb(data.colours.rule)
#let shade = rgb(data.colours.shade)
#let accent = rgb(data.colours.accent)
#let theme = doc.theme
#let statuses = {
  let all = (:)
  for (name, status) in data.statuses { all.insert(name, (word: status.word, mark: status.mark, ink: rgb(status.ink), paper: rgb(status.paper))) }
  all
}
#let air = if theme.compact { 0.72 } else { 1 }
#let given = (
  ink: ink,
  muted: muted,
  rule: rule,
  shade: shade,
  accent: accent,
  statuses: statuses,
  air: air,
  landscape: theme.landscape,
  backwards: data.backwards,
  attached: data.attached.map(file => file.name),
  block-counts: doc.sections.map(section => section.blocks.len()),
)

#set document(title: data.title + " – " + front.window_label, author: "Maple Lark", date: auto)
// Inter, and for letters that it lacks whatever else is provided.
#set text(font: "Inter", fallback: true, size: if theme.compact { 8.3pt } else { 9pt }, fill: ink, lang: doc.language, number-width: "tabular")
// Two weights are enough: a third one makes a short document larger by a twentieth.
#set strong(delta: 200)
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
#show heading.where(level: 1): set text(size: 20pt, weight: 600, fill: ink)
#show heading.where(level: 2): section-heading.with(given)
#show heading.where(level: 3): block-heading.with(given)
#show raw: set text(font: "Inter", size: 1.12em)
#show link: set text(fill: accent)

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
  text(size: 11pt, weight: 600, fill: verdict.ink)[#verdict.mark #h(3pt) #doc.summary.headline]
  if doc.summary.lines.len() > 0 {
    v(-3pt)
    list-of(marker: text(fill: verdict.ink, "–"), spacing: 5pt, ..doc.summary.lines.map(line => if leads(given, line.place) { link(leading-to(line.place), text(fill: ink, line.text)) } else { text(line.text) }))
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
  let opening = {
    heading(level: 2, section.title)
    // Neither the heading nor the words under it stand alone at the end of a page.
    if section.text.len() > 0 { block(below: 11pt, sticky: true, parts(given, section.text)) }
  }
  if not lies(section.blocks.at(0, default: none)) { opening }
  for row in section.rows {
    let first = row.first()
    let one = section.blocks.at(first)
    if one.body.kind == "page-break" {
      pagebreak(weak: true)
    } else if lies(one) {
      page(flipped: true, {
        if first == 0 { opening }
        placed(given, one, section-index, first)
      })
    } else if one.width == 12 {
      placed(given, one, section-index, first)
    } else {
      let blocks = row.map(i => section.blocks.at(i))
      grid(columns: blocks.map(one => one.room * 1pt), column-gutter: 14pt, ..row.map(i => placed(given, section.blocks.at(i), section-index, i)))
    }
  }
}

#if theme.provenance [
#if data.missing.len() > 0 {
  par(text(size: 7.5pt, fill: muted)[
    Letters that no font here has, and that are therefore not shown (#data.missing.len()): #data.missing.slice(0, least(12, data.missing.len())).join(", "). HTML and CSV have them.
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
#if made.part != none { fitted-table(given, made.part) } else if not made.empty {
  let same = made.same != none
  let count = made.headings.len()
  // Shaping without is faster, but leaves text from right to left in the wrong order.
  set text(size: 7.5pt, kerning: given.backwards, ligatures: given.backwards)
  table(
    columns: if same { (1fr, auto, auto, auto, auto) } else { made.shares.map(share => share * 1fr) },
    align: sides(made.headings),
    inset: (x: 4pt, y: 3.4pt),
    stroke: (bottom: 0.4pt + rule, rest: none),
    table.header(..heading-cells(given, made.headings), table.hline(stroke: 0.9pt + muted)),
    ..made.rows.zip(made.details).map(((row, detail)) => row + if detail != none { (table.cell(colspan: count, text(fill: muted, detail)),) }).flatten(),
  )
}
]
