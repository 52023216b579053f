(() => {
  'use strict'
  const { point, group, iso, shifts } = JSON.parse(document.getElementById('reader').textContent)
  const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']

  function make(tag, attributes, ...inside) {
    const one = document.createElement(tag)
    for (const name in attributes) one.setAttribute(name, attributes[name])
    one.append(...inside)
    return one
  }

  function number(value, decimals) {
    const [whole, part] = Math.abs(value).toFixed(decimals).split('.')
    const text = (group ? whole.replace(/\B(?=(\d{3})+$)/g, group) : whole) + (part ? point + part : '')
    return value < 0 && /[1-9]/.test(text) ? '\u2212' + text : text
  }
  const readable = (value) => number(value, value % 1 ? Math.min(6, Math.max(0, 3 - Math.floor(Math.log10(Math.abs(value))))) : 0)

  const ahead = (at) => (shifts.findLast(([from]) => at >= from) ?? shifts[0])[1]
  const two = (part) => String(part).padStart(2, '0')
  function time(at) {
    const by = ahead(at)
    const local = new Date((at + by) * 1000)
    const clock = `${two(local.getUTCHours())}:${two(local.getUTCMinutes())}`
    const date = iso ? local.toISOString().slice(0, 10) : `${local.getUTCDate()} ${MONTHS[local.getUTCMonth()]} ${local.getUTCFullYear()}`
    // An hour that comes twice is told apart.
    const size = Math.abs(by)
    const zone = shifts.length > 1 ? ` (UTC${by < 0 ? '\u2212' : '+'}${Math.floor(size / 3600)}${size % 3600 ? ':' + two((size % 3600) / 60) : ''})` : ''
    return `${date} ${clock}${zone}`
  }

  // Charts: what is read at a point stands below, and is told to whoever does not see it.

  // Steps from number to number, five bits a sign, the lowest first; the lowest bit says whether it is less.
  const SIGNS = 'ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/'
  function steps(text) {
    const all = []
    let [at, step, place] = [0, 0, 1]
    for (const sign of text) {
      const bits = SIGNS.indexOf(sign)
      step += (bits % 32) * place
      place *= 32
      if (bits > 31) continue
      all.push((at += step % 2 ? (1 - step) / 2 : step / 2))
      step = 0
      place = 1
    }
    return all
  }

  // The last of a line's points that is not after an instant, if it still holds then.
  function valueAt(line, at) {
    let [low, high] = [0, line.times.length]
    while (low < high) {
      const middle = (low + high) >> 1
      if (line.times[middle] <= at) low = middle + 1
      else high = middle
    }
    return low && at - line.times[low - 1] < line.holds ? line.values[low - 1] : null
  }

  function overTime(figure, drawn, data) {
    const scale = 10 ** data.decimals
    const stops = []
    data.frames.forEach((lines, frame) => {
      const instants = new Set()
      for (const line of lines) {
        line.times = steps(line.t).map((at) => at * line.every + data.from)
        line.values = steps(line.v).map((value) => value / scale)
        line.times.forEach((at) => instants.add(at))
      }
      const all = [...instants].sort((a, b) => a - b)
      for (const at of all) stops.push({ frame, at, share: (at - data.from) / (data.to - data.from) })
    })
    const words = ({ frame, at }) => {
      const told = data.frames[frame].map((line) => [line, valueAt(line, at)]).filter(([, value]) => value !== null)
      return [time(at), ...told.map(([line, value]) => `${line.name}: ${number(value, data.decimals)}${data.unit ? ' ' + data.unit : ''}`)].join(' \u00b7 ')
    }
    const frames = (svg) => svg.dataset.frames.split(',').map((frame) => frame.split(' ').map(Number))
    const marks = new Map(drawn.map((svg) => [svg, svg.appendChild(document.createElementNS(svg.namespaceURI, 'line'))]))
    const mark = (stop) => {
      for (const [svg, line] of marks) {
        const [left, right, top, bottom] = frames(svg)[stop.frame]
        const x = left + stop.share * (right - left)
        const places = { x1: x, x2: x, y1: top, y2: bottom, class: 'cursor' }
        for (const name in places) line.setAttribute(name, places[name])
      }
    }
    const near = (svg, x, y) => {
      let frame = frames(svg).findIndex(([left, right, top, bottom]) => x >= left - 6 && x <= right + 6 && y >= top - 24 && y <= bottom + 24)
      if (frame < 0) return -1
      const [left, right] = frames(svg)[frame]
      const share = (x - left) / (right - left)
      let best = -1
      stops.forEach((stop, i) => {
        if (stop.frame === frame && (best < 0 || Math.abs(stop.share - share) < Math.abs(stops[best].share - share))) best = i
      })
      return best
    }
    asked(figure, stops.length, (i) => words(stops[i]), (i) => mark(stops[i]), drawn, near)
    if (!data.stack && figure.querySelector('[data-of]') && data.frames[0].length > 1) switches(figure, data.frames[0])
  }

  function parts(figure, drawn) {
    const all = drawn.map((svg) => [...svg.querySelectorAll('[data-says]')])
    const count = all[0].length
    const words = (i) => all[0][i].dataset.says.replace(/\{(-?[\d.e+-]+)\}/g, (_, value) => readable(Number(value)))
    const mark = (i) => all.forEach((some) => some.forEach((one, at) => one.classList.toggle('asked', at === i)))
    if (count) asked(figure, count, words, mark, drawn, (svg, x, y, target) => all[drawn.indexOf(svg)].indexOf(target.closest('[data-says]')))
  }

  function asked(figure, count, words, mark, drawn, near) {
    let at = -1
    const reading = make('p', { class: 'reading', 'aria-hidden': 'true' }, 'Point at the chart, or use the arrow keys, to read values.')
    const control = make('div', { class: 'control', role: 'slider', tabindex: '0', 'aria-label': 'Values of ' + (figure.closest('.block').querySelector('h3')?.textContent ?? 'the chart'), 'aria-valuemin': '1', 'aria-valuemax': String(count), 'aria-valuenow': '1', 'aria-valuetext': words(0) }, reading)
    const go = (i) => {
      if (i < 0 || i === at) return
      at = i
      reading.textContent = words(i)
      control.setAttribute('aria-valuenow', String(i + 1))
      control.setAttribute('aria-valuetext', words(i))
      mark(i)
    }
    control.addEventListener('keydown', (event) => {
      const by = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1, PageUp: 10, PageDown: -10 }[event.key]
      const to = event.key === 'Home' ? 0 : event.key === 'End' ? count - 1 : by && Math.min(count - 1, Math.max(0, at + by))
      if (to === undefined) return
      event.preventDefault()
      go(to)
    })
    for (const svg of drawn) {
      const read = (event) => {
        const box = svg.getBoundingClientRect()
        const size = svg.viewBox.baseVal
        go(near(svg, ((event.clientX - box.left) / box.width) * size.width, ((event.clientY - box.top) / box.height) * size.height, event.target))
      }
      svg.addEventListener('pointermove', read)
      svg.addEventListener('pointerdown', read)
    }
    figure.append(control)
  }

  function switches(figure, lines) {
    const all = lines.map((line, i) => {
      const box = make('input', { type: 'checkbox' })
      box.checked = true
      box.addEventListener('change', () => figure.querySelectorAll(`[data-of='${i}']`).forEach((one) => one.classList.toggle('off', !box.checked)))
      return make('label', {}, box, ' ' + line.name)
    })
    figure.append(make('div', { class: 'switches', role: 'group', 'aria-label': 'Lines that are shown' }, ...all))
  }

  for (const figure of document.querySelectorAll('figure')) {
    const drawn = [...figure.querySelectorAll('svg')]
    const data = figure.querySelector('script')
    if (data) overTime(figure, drawn, JSON.parse(data.textContent))
    else if (drawn.length) parts(figure, drawn)
  }

  // Tables: by any column, and only the rows that have some words. Rows that sum up others stay last.

  const collator = new Intl.Collator(document.documentElement.lang, { numeric: true, sensitivity: 'base' })
  function key(cell, isNumber) {
    const text = cell.textContent.trim()
    if (isNumber) {
      const plain = (group ? text.split(group).join('') : text).replace(point, '.').replace('\u2212', '-')
      const found = plain.match(/-?\d+(\.\d+)?/)
      return found ? Number(found[0]) : null
    }
    const date = text.match(/^(\d{1,2}) ([A-Z][a-z]{2})(?: (\d{4}))?(?: (\d\d:\d\d(?::\d\d)?))?$/)
    if (date && MONTHS.includes(date[2])) return `${date[3] ?? '0000'}-${two(MONTHS.indexOf(date[2]))}-${two(date[1])} ${date[4] ?? ''}`
    return text === '\u2013' ? null : text
  }

  function sortable(table) {
    const heads = [...table.tHead.rows[0].cells]
    const body = table.tBodies[0]
    heads.forEach((head, column) => {
      const button = make('button', { type: 'button', class: 'sort' }, ...head.childNodes)
      head.append(button)
      button.addEventListener('click', () => {
        const down = head.getAttribute('aria-sort') === 'ascending'
        heads.forEach((other) => other.removeAttribute('aria-sort'))
        head.setAttribute('aria-sort', down ? 'descending' : 'ascending')
        const isNumber = head.classList.contains('number')
        const rows = [...body.rows].filter((row) => !row.classList.contains('sum'))
        const keyed = rows.map((row) => [row, key(row.cells[column], isNumber)])
        keyed.sort(([, a], [, b]) => {
          if (a === null || b === null) return (a === null) - (b === null)
          return (down ? -1 : 1) * (typeof a === 'number' ? a - b : collator.compare(a, b))
        })
        body.prepend(...keyed.map(([row]) => row))
      })
    })
  }

  function filterable(table) {
    const rows = [...table.tBodies[0].rows]
    const plain = rows.filter((row) => !row.classList.contains('sum'))
    if (plain.length < 8) return
    const count = make('span', { role: 'status', class: 'note' })
    const words = make('input', { type: 'search', placeholder: 'Rows with these words', 'aria-label': 'Rows with these words' })
    words.addEventListener('input', () => {
      const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean)
      let shown = 0
      for (const row of rows) {
        const text = row.textContent.toLowerCase()
        const stays = row.classList.contains('sum') ? !wanted.length : wanted.every((word) => text.includes(word))
        row.classList.toggle('off', !stays)
        if (stays && plain.includes(row)) shown++
      }
      count.textContent = wanted.length ? `${shown} of ${plain.length} rows` : ''
    })
    table.parentElement.before(make('p', { class: 'filter' }, words, ' ', count))
  }

  for (const table of document.querySelectorAll('.block table:not(.of-chart)')) {
    sortable(table)
    filterable(table)
  }
})()
