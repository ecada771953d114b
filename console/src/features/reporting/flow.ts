// Positions in the flow picture: stages from left to right, with boxes whose height is the number of users.
import type { Schemas } from '../../api/client'

type Node = Schemas['FlowNode']
export interface Placed {
  node: Node
  x: number
  y: number
  height: number
}
export interface Ribbon {
  from: Placed
  to: Placed
  users: number
  path: string
  width: number
}

const stages = ['source', 'group', 'role', 'application']
const least = 3

/** Places nodes and bands in a picture of a width and height, with room for labels between the boxes. */
export function laidOut(flow: Schemas['Flow'], width: number, height: number, bar: number, gap: number) {
  const columns = stages.map((stage) => flow.nodes.filter((node) => node.stage === stage))
  const total = (nodes: Node[]) => nodes.reduce((sum, node) => sum + node.users, 0)
  // One scale for all stages, given by the stage that needs the most room.
  const scale = Math.max(
    0,
    Math.min(
      ...columns
        .filter((each) => each.length)
        .map((each) => (height - gap * each.length) / Math.max(1, total(each))),
    ),
  )
  const placed = new Map<string, Placed>()
  columns.forEach((nodes, column) => {
    const used =
      nodes.reduce((sum, node) => sum + Math.max(least, node.users * scale), 0) + gap * (nodes.length - 1)
    let y = Math.max(0, (height - used) / 2)
    const x = column * ((width - bar) / (stages.length - 1))
    for (const node of nodes) {
      const tall = Math.max(least, node.users * scale)
      placed.set(node.id, { node, x, y, height: tall })
      y += tall + gap
    }
  })
  return { placed: [...placed.values()], ribbons: ribbons(flow, placed, scale, bar) }
}

function ribbons(flow: Schemas['Flow'], placed: Map<string, Placed>, scale: number, bar: number): Ribbon[] {
  const out = new Map<string, number>()
  const into = new Map<string, number>()
  const taken = (where: Map<string, number>, place: Placed, wide: number): number => {
    const y = where.get(place.node.id) ?? place.y
    where.set(place.node.id, y + wide)
    return y + wide / 2
  }
  const found = flow.bands.flatMap((band) => {
    const from = placed.get(band.from_id)
    const to = placed.get(band.to_id)
    return from && to ? [{ from, to, users: band.users }] : []
  })
  // In the order of their ends, so that bands cross as little as possible.
  const leaving = new Map<(typeof found)[number], number>()
  for (const each of [...found].sort((a, b) => a.from.y - b.from.y || a.to.y - b.to.y))
    leaving.set(each, taken(out, each.from, Math.max(1, each.users * scale)))
  return [...found]
    .sort((a, b) => a.to.y - b.to.y || a.from.y - b.from.y)
    .map((each) => {
      const wide = Math.max(1, each.users * scale)
      const [x1, y1] = [each.from.x + bar, leaving.get(each) ?? 0]
      const [x2, y2] = [each.to.x, taken(into, each.to, wide)]
      const middle = (x1 + x2) / 2
      return { ...each, width: wide, path: `M${x1},${y1} C${middle},${y1} ${middle},${y2} ${x2},${y2}` }
    })
}
