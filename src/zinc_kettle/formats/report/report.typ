#let told = json(bytes(sys.inputs.data))
#let copper = rgb("#a94f16")
#let ink = rgb("#1d2327")
#let muted = rgb("#5c686f")
#let hair = rgb("#c9d1d6")

#set document(title: told.title, date: none)
#set page(
  paper: "a4",
  margin: (x: 18mm, top: 18mm, bottom: 20mm),
  footer: context text(7.5pt, fill: muted)[#told.foot #h(1fr) #counter(page).display("1 / 1", both: true)],
)
#set text(font: "DejaVu Sans", size: 9pt, fill: ink, lang: "en")
#set par(leading: 0.62em, spacing: 0.9em)
#set list(marker: text(fill: muted)[–], indent: 0.3em)
#show raw: set text(font: "DejaVu Sans Mono", size: 7.5pt)

#let span(s) = {
  let (words, style) = s
  if style == "strong" { strong(words) } else if style == "emphasis" { emph(words) } else if style == "code" {
    raw(words)
  } else { words }
}
#let line-of(spans) = spans.map(span).join()
#let marked(own, body) = if own {
  block(stroke: (left: 1.5pt + copper), inset: (left: 8pt, y: 2pt), width: 100%, body)
} else { body }

#let grid-of(b) = {
  let size = if b.small { 6pt } else { 7.2pt }
  set text(size: size)
  set par(justify: false)
  block(width: 100%, table(
    columns: b.heads.len(),
    stroke: (x, y) => (bottom: 0.5pt + hair),
    inset: (x: 0pt, right: 6pt, y: 3pt),
    align: left,
    table.header(..b.heads.map(h => text(fill: muted, weight: "bold", h))),
    ..b.rows.flatten(),
  ))
  if b.caption != "" { text(fill: muted, size: 7.5pt, b.caption) }
}

#let block-of(b) = {
  if b.kind == "paragraph" {
    marked(b.own, line-of(b.spans))
    parbreak()
  } else if b.kind == "bullets" {
    marked(b.own, list(..b.items.map(line-of)))
  } else if b.kind == "grid" {
    grid-of(b)
  } else if b.kind == "picture" {
    block(breakable: false, width: 100%, image(bytes(b.svg), format: "svg", width: 100%, alt: b.alt))
  } else {
    block(fill: rgb("#eef1f3"), inset: 8pt, width: 100%, raw(b.text, block: true))
  }
}

#text(17pt, weight: "bold", told.title)
#v(-0.2em)
#text(11pt, fill: copper, weight: "bold", told.lead)
#if told.simulated {
  block(stroke: 1.2pt + copper, inset: 6pt, width: 100%)[
    *SIMULATED: these are figures of a rehearsal on made-up machines; nothing was measured on hardware.*
  ]
}
#for s in told.sections {
  if s.title != "" {
    if s.part {
      v(1.2em)
      line(length: 100%, stroke: 1.5pt + ink)
      heading(level: 1, text(14pt, s.title))
    } else {
      v(0.7em)
      line(length: 100%, stroke: 0.5pt + hair)
      block(sticky: true, heading(level: 2, text(11pt, s.title)))
    }
  }
  for b in s.blocks { block-of(b) }
}
