// A small live dashboard: asks for its figures and draws them, as such pages do.
const query = new URLSearchParams(location.search)
const DAY = 86400000
const to = query.has('to') ? new Date(query.get('to')) : new Date()
const from = query.has('from') ? new Date(query.get('from')) : new Date(to - 7 * DAY)
const asked = new URLSearchParams({ from: from.toISOString(), to: to.toISOString() })
if (query.has('harbour')) asked.set('harbour', query.get('harbour'))
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
const style = getComputedStyle(document.documentElement)
const COLOURS = ['--a', '--b', '--c', '--d', '--e', '--f'].map((name) => style.getPropertyValue(name).trim())
const ink = style.getPropertyValue('--quiet').trim()
const rule = style.getPropertyValue('--line').trim()
const when = (at, form = { dateStyle: 'medium', timeStyle: 'short' }) => new Intl.DateTimeFormat(undefined, form).format(at)

document.getElementById('range').textContent = `${when(from)} to ${when(to)}, ${zone}`
document.getElementById('clock').textContent = `${when(new Date(), { timeStyle: 'short' })} ${zone}`

async function figures(panel) {
  const answer = await fetch(`data/${panel}?${asked}`)
  if (!answer.ok) throw new Error(`${panel}: ${answer.status}`)
  return answer.json()
}

function drawn(panel, width, inside) {
  const place = document.querySelector(`#${panel} .drawn`)
  place.innerHTML = `<svg viewBox="0 0 ${width} 190" preserveAspectRatio="none" role="img">${inside}</svg>`
}

function bars(panel, rows) {
  const most = Math.max(...rows.map((row) => row.value))
  const step = 560 / rows.length
  drawn(panel, 560, rows.map((row, i) => {
    const height = (row.value / most) * 140
    return `<rect x="${i * step + 4}" y="${160 - height}" width="${step - 8}" height="${height}" fill="${COLOURS[0]}"/>
      <text x="${i * step + step / 2}" y="${152 - height}" text-anchor="middle">${row.value}</text>
      <text x="${i * step + step / 2}" y="178" text-anchor="middle">${row.label}</text>`
  }).join(''))
}

function across(at) {
  return 40 + ((at - from) / (to - from)) * 510
}

function curves(panel, series) {
  const most = Math.max(...series.flatMap((one) => one.values.map(([, value]) => value)))
  const lines = series.map((one, i) => {
    const points = one.values.map(([at, value]) => `${across(new Date(at)).toFixed(1)},${(165 - (value / most) * 145).toFixed(1)}`)
    return `<polyline points="${points.join(' ')}" fill="none" stroke="${COLOURS[i % 6]}" stroke-width="1.5"/>
      <text x="${46 + i * 84}" y="12" style="fill:${COLOURS[i % 6]}">${one.name}</text>`
  })
  drawn(panel, 560, `<line x1="40" x2="550" y1="165" y2="165" stroke="${rule}"/><text x="2" y="168">0</text><text x="2" y="26">${Math.round(most)}</text>
    <text x="40" y="184">${when(from, { dateStyle: 'medium' })}</text><text x="550" y="184" text-anchor="end">${when(to, { dateStyle: 'medium' })}</text>${lines.join('')}`)
}

function brush(panel) {
  const canvas = document.querySelector(`#${panel} canvas`)
  canvas.hidden = false
  canvas.width = canvas.clientWidth * devicePixelRatio
  canvas.height = 190 * devicePixelRatio
  const pen = canvas.getContext('2d')
  pen.scale(devicePixelRatio, devicePixelRatio)
  pen.font = '11px "DejaVu Sans"'
  return [pen, canvas.clientWidth]
}

function painted(panel, series) {
  const [pen, width] = brush(panel)
  const most = Math.max(...series.flatMap((one) => one.values.map(([, value]) => value)))
  const x = (at) => 34 + ((new Date(at) - from) / (to - from)) * (width - 44)
  pen.fillStyle = ink
  pen.fillText('0', 4, 168)
  pen.fillText(String(Math.round(most)), 4, 28)
  pen.strokeStyle = rule
  pen.strokeRect(34, 165, width - 44, 0.5)
  series.forEach((one, i) => {
    pen.strokeStyle = pen.fillStyle = COLOURS[i % 6]
    pen.beginPath()
    one.values.forEach(([at, value], place) => pen[place ? 'lineTo' : 'moveTo'](x(at), 165 - (value / most) * 140))
    pen.stroke()
    pen.fillText(one.name, 40 + i * 84, 12)
  })
}

function squares(rows) {
  const [pen, width] = brush('occupancy')
  const cell = (width - 90) / 24
  const high = 160 / rows.length
  rows.forEach((row, down) => {
    pen.fillStyle = ink
    pen.globalAlpha = 1
    pen.fillText(row.name, 2, down * high + high * 0.65)
    row.values.forEach((value, hour) => {
      pen.fillStyle = COLOURS[0]
      pen.globalAlpha = 0.08 + 0.9 * (value / 100)
      pen.fillRect(84 + hour * cell, down * high, cell - 1, high - 1)
    })
  })
  pen.globalAlpha = 1
  pen.fillStyle = ink
  for (let hour = 0; hour < 24; hour += 6) pen.fillText(`${String(hour).padStart(2, '0')}:00`, 84 + hour * cell, 180)
}

async function panel(name, draw) {
  try {
    draw(await figures(name))
    document.getElementById(name).classList.add('ready')
  } catch (problem) {
    document.getElementById(name).append(`Cannot be shown: ${problem.message}`)
  }
}

Promise.all([
  panel('numbers', (rows) => {
    document.getElementById('numbers').innerHTML = rows.map((row) => `<div><b>${row.value}</b>${row.label}</div>`).join('')
  }),
  panel('calls', (rows) => bars('calls', rows)),
  panel('turnaround', (series) => painted('turnaround', series)),
  panel('passengers', (rows) => bars('passengers', rows)),
  panel('wind', (series) => curves('wind', series)),
  panel('occupancy', squares),
  panel('queue', (series) => {
    document.querySelector('#queue .busy').remove()
    painted('queue', series)
  }),
  panel('late', (rows) => bars('late', rows)),
  panel('berths', (rows) => {
    document.querySelector('#berths tbody').innerHTML = rows
      .map((row) => `<tr><td>${row.berth}</td><td>${row.harbour}</td><td class="n">${row.calls}</td><td class="n">${row.stay.toFixed(1)}</td><td>${when(new Date(row.last))}</td></tr>`)
      .join('')
  }),
]).then(() => {
  document.body.classList.add('complete')
  window.boardReady = true
})

document.getElementById('download').addEventListener('click', () => {
  location.href = `berths.csv?${asked}`
})
