import { expect, it } from 'vitest'
import { line, size } from './live'
import { reachWords } from './states'

it('draws the newest values at the right, within the box', () => {
  const points = line([0, 50, 100, 400], 100, 20, 100, 5)
    .split(' ')
    .map((p) => p.split(',').map(Number))
  expect(points.map((p) => p[0])).toEqual([25, 50, 75, 100])
  expect(points.map((p) => p[1])).toEqual([19, 10, 1, 1])
  expect(line([], 100, 20, 0, 5)).toBe('')
  expect(line(Array(50).fill(1), 100, 20, 0, 5).split(' ')).toHaveLength(5)
})

it('says sizes and reach in words', () => {
  expect([size(1023), size(1536), size(3 << 20)]).toEqual(['1023 B', '1.5 KiB', '3.0 MiB'])
  expect(reachWords({ to: 'office', services: 'tcp/80' })).toBe('tcp/80 at office')
  expect(reachWords({ from: 'office', services: 'ping' })).toBe('ping from office towards their devices')
})
