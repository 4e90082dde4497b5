import 'uplot/dist/uPlot.min.css'

import { useEffect, useLayoutEffect, useRef, useState } from 'react'
import uPlot from 'uplot'

import { onPoint, point, pointed } from '../lib/crosshair'
import { clock, day } from '../lib/format'
import { useWidth } from '../lib/useWidth'

/** Line is one line of a chart: its name, its values step by step, null where nothing was recorded, and the token of its colour. */
export interface Line {
  name: string
  values: (number | null)[]
  ink: string
  filled?: boolean
}

/** Mark is a moment that is drawn as a dotted line. */
export interface Mark {
  at: string
  text: string
}

type Props = {
  /** times are when the steps begin, in seconds since 1970. */
  times: number[]
  lines: Line[]
  marks: Mark[]
  height: number
  /** unit is what the values count, such as "jobs per minute". */
  unit: string
  label: string
  /** choose is told of a span that is chosen on the chart, in seconds since 1970. */
  choose?: (from: number, to: number) => void
}

/** Chart draws lines over time, the present at the right edge, with their names beside them, and tells the figures under the pointer or, by the arrow keys, of any step. */
export function Chart(props: Props) {
  const [box, width] = useWidth<HTMLDivElement>()
  const at = useRef<HTMLDivElement>(null)
  const plot = useRef<uPlot>(null)
  const [index, setIndex] = useState<number | null>(null)
  const anchor = useRef<number | null>(null)
  const latest = useRef(props)
  useLayoutEffect(() => {
    latest.current = props
  })
  const names = props.lines.map((l) => l.name).join()
  useEffect(() => {
    if (width === 0) return
    const made = new uPlot(options(latest, width, setIndex), columns(latest.current), at.current!)
    plot.current = made
    const stop = onPoint(() => show(made))
    const dark = matchMedia('(prefers-color-scheme: dark)')
    const redraw = () => made.redraw(false, true)
    dark.addEventListener('change', redraw)
    return () => {
      stop()
      point(null)
      dark.removeEventListener('change', redraw)
      made.destroy()
    }
  }, [width, names, props.height])
  useEffect(() => {
    plot.current?.setData(columns(props))
  }, [props])
  const move = (by: number) => {
    const last = props.times.length - 1
    const known = props.times.findLastIndex((_, i) => props.lines.some((l) => typeof l.values[i] === 'number'))
    const next = index === null ? Math.max(known, 0) : Math.min(Math.max(index + by, 0), last)
    const made = plot.current
    if (!made) return
    made.setCursor({ left: made.valToPos(props.times[next]!, 'x'), top: made.bbox.height / devicePixelRatio / 2 })
    setIndex(next)
    return next
  }
  const extend = (by: number) => {
    const made = plot.current
    anchor.current ??= index ?? props.times.length - 1
    const next = move(by)
    if (!made || next === undefined) return
    const [left, right] = [anchor.current, next].sort((a, b) => a - b).map((i) => made.valToPos(props.times[i]!, 'x'))
    made.setSelect({ left: left!, width: right! - left!, top: 0, height: made.bbox.height / devicePixelRatio }, false)
  }
  const chosen = () => {
    if (anchor.current === null || index === null || anchor.current === index) return false
    const [from, to] = [anchor.current, index].sort((a, b) => a - b)
    choosing(latest.current, props.times[from!]!, props.times[to!]!)
    return true
  }
  const unselect = () => {
    anchor.current = null
    plot.current?.setSelect(nothing, false)
  }
  return (
    <div ref={box} className="min-w-0">
      <div
        ref={at}
        role="img"
        aria-label={`${props.label}. Arrow keys read the figures${props.choose ? '; with Shift they choose a span, and Enter shows it' : ''}.`}
        tabIndex={0}
        style={{ height: props.height }}
        onKeyDown={(e) => {
          if (e.key === 'Enter' && chosen()) return unselect()
          if (e.key === 'Escape' && anchor.current !== null) {
            e.stopPropagation()
            return unselect()
          }
          const by = { ArrowLeft: -1, ArrowRight: 1, Home: -props.times.length, End: props.times.length }[e.key]
          if (by === undefined) return
          e.preventDefault()
          if (e.shiftKey && props.choose) return extend(by)
          unselect()
          move(by)
        }}
      />
      <p className="h-[20px] truncate text-[13px] text-quiet" aria-live="polite">
        {index !== null && props.times[index] !== undefined ? told(props, index) : ''}
      </p>
    </div>
  )
}

const nothing = { left: 0, top: 0, width: 0, height: 0 }

/** choosing tells of a span, in whole steps. */
function choosing(p: Props, from: number, to: number) {
  const step = (p.times[1] ?? 0) - (p.times[0] ?? 0)
  const first = p.times.findLast((t) => t <= from) ?? p.times[0]!
  const last = p.times.find((t) => t >= to) ?? p.times.at(-1)! + step
  p.choose?.(first, Math.max(last, first + step))
}

/** show puts the crosshair where another drawing of the page is pointed at. */
function show(u: uPlot) {
  const at = pointed()
  const idx = u.cursor.idx
  if (at === (idx === null || idx === undefined ? null : (u.data[0][idx] ?? null))) return
  if (at === null) u.setCursor({ left: -10, top: -10 }, false)
  else u.setCursor({ left: u.valToPos(at, 'x'), top: 0 }, false)
}

/** told says the figures of a step. */
function told(p: Props, i: number): string {
  const figures = p.lines.map((l) => `${l.name} ${l.values[i] === null || l.values[i] === undefined ? 'not recorded' : short(l.values[i])}`)
  return `${moment(p.times[i]!, p.times)}: ${figures.join(', ')} ${p.unit}`
}

function columns(p: Props): uPlot.AlignedData {
  return [p.times, ...p.lines.map((l) => l.values)]
}

function short(n: number): string {
  return n >= 10 || Number.isInteger(n) ? String(Math.round(n)) : n.toFixed(1)
}

/** moment is a time as exactly as the span of the chart needs. */
function moment(s: number, times: number[]): string {
  const span = (times.at(-1) ?? s) - (times[0] ?? s)
  const d = new Date(s * 1000)
  return span > 86_400 ? `${day(d)} ${clock(d).slice(0, 5)}` : clock(d).slice(0, 5)
}

const token = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()
const face = '12px "Atkinson Hyperlegible Next Variable", system-ui, sans-serif'
const beside = 64 // where the names of the lines stand

function options(latest: { current: Props }, width: number, seen: (i: number | null) => void): uPlot.Options {
  const p = latest.current
  const axis = (): Partial<uPlot.Axis> => ({
    stroke: () => token('quiet'),
    grid: { stroke: () => token('hairline'), width: 1 },
    ticks: { show: false },
    font: face,
  })
  return {
    width,
    height: p.height,
    padding: [18, beside, 0, 0],
    legend: { show: false },
    cursor: { y: false, points: { size: 6 }, drag: { x: !!p.choose, y: false, setScale: false, dist: 6 } },
    scales: { x: { time: true }, y: { range: (_u, _min, max) => [0, Math.max(max || 0, 1) * 1.08] } },
    axes: [
      {
        ...axis(),
        size: 22,
        gap: 2,
        grid: { show: false },
        values: (_u, splits) => splits.map((s) => moment(s, latest.current.times)),
        space: 90,
      },
      { ...axis(), size: 40, gap: 6, space: 34 },
    ],
    series: [
      {},
      ...p.lines.map((l) => ({
        label: l.name,
        stroke: () => token(l.ink),
        width: 1.6,
        spanGaps: false,
        points: { show: false },
        ...(l.filled ? { fill: () => `color-mix(in oklch, ${token(l.ink)} 16%, transparent)` } : {}),
      })),
    ],
    hooks: {
      draw: [(u) => drawMarks(u, latest.current.marks), (u) => drawNames(u, latest.current.lines)],
      setCursor: [
        (u) => {
          const idx = u.cursor.idx ?? null
          seen(idx)
          point(idx === null ? null : (u.data[0][idx] ?? null))
        },
      ],
      setSelect: [
        (u) => {
          const { left, width } = u.select
          if (width < 6) return
          u.setSelect(nothing, false)
          choosing(latest.current, u.posToVal(left, 'x'), u.posToVal(left + width, 'x'))
        },
      ],
    },
  }
}

/** drawNames writes the name of each line at its end, none over another. */
function drawNames(u: uPlot, lines: Line[]) {
  const { ctx } = u
  const scale = devicePixelRatio
  ctx.save()
  ctx.font = face.replace('12px', `${12 * scale}px`)
  ctx.textBaseline = 'middle'
  ctx.textAlign = 'left'
  const ends = lines.map((l) => ({ l, y: u.valToPos(l.values.findLast((v) => v !== null) ?? 0, 'y', true) })).sort((a, b) => b.y - a.y)
  let free = u.bbox.top + u.bbox.height
  for (const { l, y } of ends) {
    const at = Math.min(y, free - 7 * scale)
    ctx.fillStyle = token(l.ink)
    ctx.fillText(l.name, u.bbox.left + u.bbox.width + 6 * scale, at)
    free = at - 7 * scale
  }
  ctx.restore()
}

/** drawMarks draws the moments within the span; what would be written over another is left to the list beneath. */
function drawMarks(u: uPlot, marks: Mark[]) {
  const { ctx } = u
  const scale = devicePixelRatio
  ctx.save()
  ctx.font = face.replace('12px', `${12 * scale}px`)
  ctx.fillStyle = ctx.strokeStyle = token('quiet')
  ctx.setLineDash([2 * scale, 3 * scale])
  ctx.lineWidth = scale
  ctx.textBaseline = 'bottom'
  let free = 0
  for (const m of marks) {
    const x = u.valToPos(Date.parse(m.at) / 1000, 'x', true)
    if (x < u.bbox.left || x > u.bbox.left + u.bbox.width) continue
    ctx.beginPath()
    ctx.moveTo(x, u.bbox.top)
    ctx.lineTo(x, u.bbox.top + u.bbox.height)
    ctx.stroke()
    const wide = ctx.measureText(m.text).width
    const start = Math.min(Math.max(x - wide / 2, u.bbox.left), u.bbox.left + u.bbox.width - wide)
    if (start < free) continue
    ctx.fillText(m.text, start, u.bbox.top - 2 * scale)
    free = start + wide + 8 * scale
  }
  ctx.restore()
}
