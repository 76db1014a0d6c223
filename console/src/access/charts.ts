/** What charts show, as ECharts options. Colours come from the theme's names. */

import type { EChartsCoreOption } from 'echarts/core'

import { gettext, pgettext } from '@/frame/language'
import type { Path, RoundProgress, Today } from '@/service/types'

import { day } from '@/frame/words'

/** The present value of a theme colour. */
export function colour(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(`--color-${name}`).trim()
}

/** How many grants end in each of the coming weeks. */
export function endsOption(ends: Today['ends']): EChartsCoreOption {
  const label = { color: colour('soft'), fontFamily: 'inherit' }
  return {
    animation: false,
    grid: { left: 28, right: 8, top: 16, bottom: 24 },
    tooltip: { trigger: 'axis', renderMode: 'richText' },
    xAxis: {
      type: 'category',
      data: ends.map((week) => day(week.week_begins).replace(/ \d{4}$/, '')),
      axisLabel: { ...label, interval: 1 },
      axisTick: { show: false },
      axisLine: { lineStyle: { color: colour('line') } },
    },
    yAxis: { type: 'value', minInterval: 1, axisLabel: label, splitLine: { lineStyle: { color: colour('line') } } },
    series: [{ type: 'bar', name: gettext('grants end'), data: ends.map((week) => week.count), itemStyle: { color: colour('brass') }, barMaxWidth: 26 }],
  }
}

/** How many items were left at the end of each day from the opening on, up to today. */
export function leftByDay(progress: RoundProgress, now: number): [number, number][] {
  const points: [number, number][] = [[Date.parse(progress.opened_at), progress.items]]
  let left = progress.items
  for (const one of progress.by_day) {
    left -= one.decided
    points.push([Math.min(Date.parse(`${one.day}T23:59:59Z`), now), left])
  }
  const last = points.at(-1) as [number, number]
  return now > last[0] ? [...points, [now, left]] : points
}

/** What is left, falling; beside it the even pace that would be done when it is due. */
export function progressOption(progress: RoundProgress, now: number): EChartsCoreOption {
  const [moss, soft, line, brass] = ['moss', 'soft', 'line', 'brass'].map(colour)
  const label = { color: soft, fontFamily: 'inherit' }
  const opened = Date.parse(progress.opened_at)
  const due = Date.parse(progress.due_at)
  return {
    animation: false,
    grid: { left: 8, right: 16, top: 16, bottom: 8, containLabel: true },
    tooltip: { trigger: 'axis', renderMode: 'richText' },
    xAxis: { type: 'time', min: opened, max: Math.max(due, now), axisLabel: { ...label, hideOverlap: true }, axisLine: { lineStyle: { color: line } } },
    yAxis: { type: 'value', min: 0, max: progress.items, minInterval: 1, axisLabel: label, splitLine: { lineStyle: { color: line } } },
    series: [
      { type: 'line', name: pgettext('remaining', 'left'), step: 'end', data: leftByDay(progress, now), symbol: 'circle', symbolSize: 8, itemStyle: { color: moss }, lineStyle: { color: moss, width: 3 }, areaStyle: { color: moss, opacity: 0.15 } },
      {
        type: 'line', name: gettext('an even pace'), data: [[opened, progress.items], [due, 0]], symbol: 'none', lineStyle: { color: brass, type: 'dashed', width: 1.5 },
        markLine: { silent: true, symbol: 'none', label: { formatter: pgettext('day', 'due'), color: soft }, lineStyle: { color: soft, type: 'dotted' }, data: [{ xAxis: due }] },
      },
    ],
  }
}

export interface Lane {
  label: string
  from: number
  to: number
  open: boolean
  reach: number
}

const DAY = 86_400_000

/** Lanes of access with their ends, soonest first; those without an end run to the edge. */
export function lanesOf(paths: Path[], now: number): { lanes: Lane[]; from: number; to: number } {
  const from = now - 60 * DAY
  const ends = paths.filter((path) => path.until).map((path) => Date.parse(path.until as string))
  const to = Math.min(Math.max(now + 60 * DAY, ...ends.map((end) => end + 10 * DAY)), now + 400 * DAY)
  const lanes = paths
    .filter((path) => !path.owns)
    .map((path) => ({
      label: `${path.holder.name}, ${path.level}`,
      from: Math.max(from, Date.parse(path.since ?? path.given_at ?? '') || from),
      to: path.until ? Math.min(Date.parse(path.until), to) : to,
      open: !path.until,
      reach: path.reach,
    }))
    .sort((a, b) => a.to - b.to || a.label.localeCompare(b.label))
  return { lanes, from, to }
}

interface CustomApi {
  value: (dimension: number) => number
  coord: (point: [number, number]) => [number, number]
  size: (point: [number, number]) => [number, number]
}

/** The lanes drawn: a bar from start to end, a post where it ends, none where it has no end. */
export function lanesOption(paths: Path[], now: number): EChartsCoreOption {
  const { lanes, from, to } = lanesOf(paths, now)
  const [moss, rust, soft, line] = ['moss', 'rust', 'soft', 'line'].map(colour)
  const label = { color: soft, fontFamily: 'inherit' }
  return {
    animation: false,
    grid: { left: 8, right: 12, top: 8, bottom: 24, containLabel: true },
    xAxis: { type: 'time', min: from, max: to, axisLabel: { ...label, hideOverlap: true }, splitLine: { show: true, lineStyle: { color: line } } },
    yAxis: { type: 'category', inverse: true, data: lanes.map((lane) => lane.label), axisLabel: { ...label, width: 210, overflow: 'truncate' }, axisTick: { show: false }, axisLine: { show: false } },
    series: [
      {
        type: 'custom',
        data: lanes.map((lane, index) => [index, lane.from, lane.to, lane.open ? 1 : 0, lane.reach]),
        encode: { x: [1, 2], y: 0 },
        renderItem: (_: unknown, api: CustomApi) => {
          const [x, y] = api.coord([api.value(1), api.value(0)])
          const [end] = api.coord([api.value(2), api.value(0)])
          const height = Math.min(api.size([0, 1])[1] * 0.5, 14)
          const fill = api.value(4) >= 3 ? rust : moss
          const bar = { type: 'rect', shape: { x, y: y - height / 2, width: Math.max(end - x, 2), height, r: 2 }, style: { fill, opacity: api.value(3) ? 0.35 : 0.85 } }
          const post = { type: 'rect', shape: { x: end - 3, y: y - height, width: 3, height: height * 2 }, style: { fill } }
          return { type: 'group', children: api.value(3) ? [bar] : [bar, post] }
        },
        markLine: { silent: true, symbol: 'none', label: { formatter: gettext('now'), color: soft }, lineStyle: { color: soft, type: 'dashed' }, data: [{ xAxis: now }] },
      },
    ],
  }
}
