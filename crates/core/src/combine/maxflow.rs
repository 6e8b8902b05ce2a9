//! Minimum cut between two terminals, by augmenting paths from two search trees that are kept from path to path
//! (Boykov and Kolmogorov 2004), on grids: every node has up to four neighbours and both terminals.
//!
//! Capacities are whole numbers, so that the cut is the same on every machine. A node with all that is asked of it fills one line of the
//! processor's cache, for the search wanders. Cost: near linear in nodes for the grids of a labelling, in the worst case quadratic.

use std::collections::VecDeque;

const NONE: u32 = u32::MAX;
/// Parents of a node other than the neighbour on a side: its terminal, nobody yet though its tree has it, or nobody.
const TERMINAL: u8 = 4;
const ORPHAN: u8 = 5;
const FREE: u8 = 6;

/// A neighbour's side as that neighbour sees it.
const fn opposite(side: usize) -> usize {
    side ^ 2
}

#[derive(Clone)]
#[repr(align(64))]
struct Node {
    /// The nodes to the right, below, to the left and above.
    beside: [u32; 4],
    /// What still fits through to each of them.
    left: [i32; 4],
    /// What still fits from the source, or, negative, to the sink.
    terminal: i32,
    /// When the distance to its terminal was last known to be right, and the distance.
    seen: u32,
    distance: u32,
    parent: u8,
    /// Whether a node with a parent belongs to the sink's tree.
    sink: bool,
    queued: bool,
}

/// A graph under construction, then its cut.
pub(crate) struct Graph {
    nodes: Vec<Node>,
    active: VecDeque<u32>,
    orphans: Vec<u32>,
    time: u32,
}

impl Graph {
    /// `nodes` nodes without edges.
    pub(crate) fn new(nodes: usize) -> Self {
        let node = Node {
            beside: [NONE; 4],
            left: [0; 4],
            terminal: 0,
            seen: 0,
            distance: 0,
            parent: FREE,
            sink: false,
            queued: false,
        };
        Self { nodes: vec![node; nodes], active: VecDeque::new(), orphans: Vec::new(), time: 0 }
    }

    /// Costs `on_source` when the node ends on the source's side, `on_sink` when on the sink's.
    pub(crate) fn cost(&mut self, node: usize, on_source: i32, on_sink: i32) {
        self.nodes[node].terminal += on_sink - on_source;
    }

    /// Makes `b` the neighbour of `a` on a side (0 to the right, 1 below, 2 to the left, 3 above): costs `forth` when `a` ends on
    /// the source's side and `b` on the sink's.
    pub(crate) fn link(&mut self, a: usize, side: usize, b: usize, forth: i32) {
        self.nodes[a].beside[side] = b as u32;
        self.nodes[a].left[side] = forth;
        self.nodes[b].beside[opposite(side)] = a as u32;
    }

    /// Finds the minimum cut; for each node, whether it ends on the sink's side, which it does not where that costs the same.
    pub(crate) fn cut(mut self) -> Vec<bool> {
        for n in 0..self.nodes.len() {
            let node = &mut self.nodes[n];
            if node.terminal != 0 {
                (node.sink, node.parent, node.distance) = (node.terminal < 0, TERMINAL, 1);
                self.activate(n as u32);
            }
        }
        let mut current = None;
        while let Some(node) = current.take().or_else(|| self.next_active()) {
            if self.nodes[node as usize].parent == FREE {
                continue;
            }
            if let Some((from, side)) = self.grow(node) {
                self.time += 1;
                self.augment(from, side);
                self.adopt();
                current = Some(node);
            }
        }
        self.nodes.iter().map(|n| n.parent != FREE && n.sink).collect()
    }

    fn activate(&mut self, node: u32) {
        if !std::mem::replace(&mut self.nodes[node as usize].queued, true) {
            self.active.push_back(node);
        }
    }

    fn next_active(&mut self) -> Option<u32> {
        let node = self.active.pop_front()?;
        self.nodes[node as usize].queued = false;
        Some(node)
    }

    /// What still fits along a tree's edge from a node to its neighbour on a side: the source's tree grows along edges with room, the
    /// sink's against them.
    #[inline]
    fn room(&self, node: &Node, side: usize, sink: bool) -> i32 {
        match sink {
            true => self.nodes[node.beside[side] as usize].left[opposite(side)],
            false => node.left[side],
        }
    }

    /// Takes in the free neighbours of a node; an edge from the source's tree to the sink's when one is met: a node of the
    /// source's and a side.
    fn grow(&mut self, node: u32) -> Option<(u32, usize)> {
        let own = &self.nodes[node as usize];
        let (sink, seen, distance, beside) = (own.sink, own.seen, own.distance, own.beside);
        for (side, to) in beside.into_iter().enumerate().filter(|(_, to)| *to != NONE) {
            if self.room(&self.nodes[node as usize], side, sink) == 0 {
                continue;
            }
            let other = &mut self.nodes[to as usize];
            if other.parent == FREE {
                (other.sink, other.parent) = (sink, opposite(side) as u8);
                (other.seen, other.distance) = (seen, distance + 1);
                self.activate(to);
            } else if other.sink != sink {
                return Some(if sink { (to, opposite(side)) } else { (node, side) });
            } else if other.seen <= seen && other.distance > distance + 1 {
                other.parent = opposite(side) as u8;
                (other.seen, other.distance) = (seen, distance + 1);
            }
        }
        None
    }

    /// The node above one in its tree, and the edge that carries flow between them, as the node it leaves and the side; `None` at
    /// the terminal.
    #[inline]
    fn above(&self, n: u32) -> Option<(u32, (u32, usize))> {
        let node = &self.nodes[n as usize];
        if node.parent == TERMINAL {
            return None;
        }
        let side = usize::from(node.parent);
        let up = node.beside[side];
        Some((up, if node.sink { (n, side) } else { (up, opposite(side)) }))
    }

    /// Pushes what fits from terminal to terminal over an edge between the trees.
    fn augment(&mut self, from: u32, side: usize) {
        let to = self.nodes[from as usize].beside[side];
        let mut most = self.nodes[from as usize].left[side];
        for end in [from, to] {
            let mut n = end;
            while let Some((up, (leaves, side))) = self.above(n) {
                most = most.min(self.nodes[leaves as usize].left[side]);
                n = up;
            }
            most = most.min(self.nodes[n as usize].terminal.abs());
        }
        self.push((from, side), most);
        for end in [from, to] {
            let mut n = end;
            while let Some((up, edge)) = self.above(n) {
                if self.push(edge, most) == 0 {
                    self.orphan(n);
                }
                n = up;
            }
            let node = &mut self.nodes[n as usize];
            node.terminal -= if node.sink { -most } else { most };
            if node.terminal == 0 {
                self.orphan(n);
            }
        }
    }

    /// Pushes flow through an edge; what still fits through it.
    fn push(&mut self, (leaves, side): (u32, usize), flow: i32) -> i32 {
        let node = &mut self.nodes[leaves as usize];
        node.left[side] -= flow;
        let (left, to) = (node.left[side], node.beside[side]);
        self.nodes[to as usize].left[opposite(side)] += flow;
        left
    }

    fn orphan(&mut self, node: u32) {
        self.nodes[node as usize].parent = ORPHAN;
        self.orphans.push(node);
    }

    /// Finds new parents for orphans, or sets them free.
    fn adopt(&mut self) {
        while let Some(orphan) = self.orphans.pop() {
            let own = &self.nodes[orphan as usize];
            let (sink, beside) = (own.sink, own.beside);
            // Whether a neighbour is of its tree, so that flow could come from there, or go there for the sink's.
            let near = |graph: &Self, side: usize, to: u32| {
                let other = &graph.nodes[to as usize];
                other.parent != FREE && other.sink == sink && graph.room(other, opposite(side), sink) > 0
            };
            let sides = || beside.into_iter().enumerate().filter(|(_, to)| *to != NONE);
            let mut best: Option<(u32, usize)> = None;
            for (side, to) in sides() {
                if near(self, side, to)
                    && let Some(steps) = self.steps_up(to)
                    && best.is_none_or(|b| steps < b.0)
                {
                    best = Some((steps, side));
                }
            }
            if let Some((steps, side)) = best {
                let node = &mut self.nodes[orphan as usize];
                (node.parent, node.seen, node.distance) = (side as u8, self.time, steps + 1);
                continue;
            }
            self.nodes[orphan as usize].parent = FREE;
            for (side, to) in sides() {
                // Those that may take it in again; also another orphan, which may yet find a parent.
                if near(self, side, to) {
                    self.activate(to);
                }
                if usize::from(self.nodes[to as usize].parent) == opposite(side) {
                    self.orphan(to);
                }
            }
        }
    }

    /// How many edges lie between a node and its terminal; `None` when its tree has lost the terminal.
    fn steps_up(&mut self, from: u32) -> Option<u32> {
        let (mut n, mut steps) = (from, 0);
        let end = loop {
            let node = &mut self.nodes[n as usize];
            if node.seen == self.time && node.parent < ORPHAN {
                break steps + node.distance;
            }
            match node.parent {
                ORPHAN | FREE => return None,
                TERMINAL => {
                    (node.seen, node.distance) = (self.time, 1);
                    break steps + 1;
                }
                side => n = node.beside[usize::from(side)],
            }
            steps += 1;
        };
        // Marks the way, so that it is not walked again.
        let (mut n, mut steps) = (from, end);
        loop {
            let node = &mut self.nodes[n as usize];
            if node.seen == self.time {
                return Some(end);
            }
            (node.seen, node.distance) = (self.time, steps);
            steps -= 1;
            n = node.beside[usize::from(node.parent)];
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A grid of three columns: what each node costs on either side, and what each costs apart from those to its right and below.
    fn energy(sides: &[bool], costs: &[(i32, i32)], links: &[(usize, usize, usize, i32)]) -> i64 {
        let nodes: i64 = sides.iter().zip(costs).map(|(&s, c)| i64::from(if s { c.1 } else { c.0 })).sum();
        let apart = |&(a, _, b, forth): &(usize, usize, usize, i32)| {
            if !sides[a] && sides[b] { i64::from(forth) } else { 0 }
        };
        nodes + links.iter().map(apart).sum::<i64>()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]

        #[test]
        fn no_other_cut_is_cheaper_and_none_as_cheap_puts_less_on_the_sinks_side(
            costs in prop::collection::vec((0..20i32, 0..20i32), 1..12),
            capacities in prop::collection::vec(0..15i32, 44)
        ) {
            const COLUMNS: usize = 3;
            let n = costs.len();
            let mut graph = Graph::new(n);
            costs.iter().enumerate().for_each(|(i, c)| graph.cost(i, c.0, c.1));
            let mut links = Vec::new();
            for a in 0..n {
                let right = (a % COLUMNS + 1 < COLUMNS && a + 1 < n).then_some(a + 1);
                let below = (a + COLUMNS < n).then_some(a + COLUMNS);
                let left = (a % COLUMNS > 0).then(|| a - 1);
                let above = a.checked_sub(COLUMNS);
                for (side, b) in [right, below, left, above].into_iter().enumerate() {
                    if let Some(b) = b {
                        graph.link(a, side, b, capacities[4 * a + side]);
                        links.push((a, side, b, capacities[4 * a + side]));
                    }
                }
            }
            let found = graph.cut();
            let all: Vec<(i64, Vec<bool>)> = (0..1u32 << n)
                .map(|bits| (0..n).map(|i| bits >> i & 1 == 1).collect::<Vec<_>>())
                .map(|sides| (energy(&sides, &costs, &links), sides))
                .collect();
            let best = all.iter().map(|(e, _)| *e).min();
            prop_assert_eq!(Some(energy(&found, &costs, &links)), best);
            for (_, sides) in all.iter().filter(|(e, _)| Some(*e) == best) {
                prop_assert!(found.iter().zip(sides).all(|(f, s)| !f || *s), "{:?} for {:?}", found, sides);
            }
        }
    }
}
