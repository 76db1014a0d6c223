/** What the charts of figures over time show, as ECharts options. Nothing known is a gap, never a zero. */

import type { EChartsCoreOption } from 'echarts/core'

import { gettext } from '@/frame/language'
import { colour } from '@/access/charts'
import { day } from '@/frame/words'
import type { TrendPoint } from '@/service/types'

export interface Line {
  name: string
  values: (number | null)[]
}

const COLOURS = ['moss', 'rust', 'brass', 'soft']
const SIGNS = ['●', '■', '▲', '◆']

/** What a line looks like, for a legend: its sign and the name of its colour. */
export function lookOf(at: number): { sign: string; colour: string } {
  // The same sign comes back in another colour.
  return { sign: SIGNS[at % SIGNS.length] as string, colour: `var(--color-${COLOURS[(at + Math.floor(at / SIGNS.length)) % COLOURS.length]})` }
}

/** Lines over the periods, each in its own colour and with its own mark. */
export function linesOption(points: TrendPoint[], lines: Line[]): EChartsCoreOption {
  const label = { color: colour('soft'), fontFamily: 'inherit' }
  const colours = COLOURS.map(colour)
  const marks = ['circle', 'rect', 'triangle', 'diamond']
  return {
    animation: false,
    grid: { left: 8, right: 16, top: 16, bottom: 8, containLabel: true },
    tooltip: { trigger: 'axis', renderMode: 'richText' },
    xAxis: {
      type: 'category',
      data: points.map((point) => day(point.last).replace(/ \d{4}$/, '')),
      axisLabel: { ...label, hideOverlap: true },
      axisTick: { show: false },
      axisLine: { lineStyle: { color: colour('line') } },
    },
    yAxis: { type: 'value', min: 0, minInterval: 1, axisLabel: label, splitLine: { lineStyle: { color: colour('line') } } },
    series: lines.map((line, at) => ({
      type: 'line',
      name: line.name,
      data: line.values,
      symbol: marks[at % marks.length],
      symbolSize: 8,
      itemStyle: { color: colours[(at + Math.floor(at / marks.length)) % colours.length] },
      lineStyle: { color: colours[(at + Math.floor(at / marks.length)) % colours.length], width: 2 },
    })),
  }
}

/** The systems that ever had unrecorded access, with their counts. */
export function unrecordedLines(points: TrendPoint[]): Line[] {
  const names = new Map(points.flatMap((point) => point.unrecorded ?? []).map((one) => [one.system.id, one.system.name]))
  return [...names].map(([id, name]) => ({
    name,
    values: points.map((point) => (point.unrecorded ? (point.unrecorded.find((one) => one.system.id === id)?.count ?? null) : null)),
  }))
}

/** How long something took, in the unit that fits it. */
export function took(hours: number | null): string {
  if (hours === null) return '–'
  if (hours < 1) return gettext('%{minutes} min', { minutes: Math.max(1, Math.round(hours * 60)) })
  if (hours < 48) return `${hours.toFixed(1)} h`
  return gettext('%{hours} days', { hours: (hours / 24).toFixed(1) })
}
