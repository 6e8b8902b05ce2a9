//! Minimum cut between two terminals, by augmenting paths from two search trees that are kept from path to path
//! (Boykov and Kolmogorov 2004). Made for graphs in which every node has a few neighbours and both terminals.
//!
//! Capacities are whole numbers, so that the cut is the same on every machine. Cost: near linear in nodes for the
//! grids of a labelling, in the worst case quadratic.

/// A node's number.
type Node = u32;
const NONE: u32 = u32::MAX;
/// The parent of a node that hangs on its terminal.
const TERMINAL: u32 = u32::MAX - 1;

struct Edge {
    to: Node,
    next: u32,
    /// What still fits through; the edge back is the one whose number differs in the last bit.
    left: i32,
}

/// A graph under construction, then its cut.
pub(crate) struct Graph {
    edges: Vec<Edge>,
    first: Vec<u32>,
    /// What still fits from the source, or, negative, to the sink.
    terminal: Vec<i64>,
    /// The edge from a node to its parent.
    parent: Vec<u32>,
    /// Whether a node with a parent belongs to the sink's tree.
    sink: Vec<bool>,
    active: std::collections::VecDeque<Node>,
    queued: Vec<bool>,
    /// When a node's distance to its terminal was last known to be right, and the distance.
    seen: Vec<u32>,
    distance: Vec<u32>,
    orphans: Vec<Node>,
    time: u32,
}

impl Graph {
    /// `nodes` nodes without edges.
    pub(crate) fn new(nodes: usize, edges: usize) -> Self {
        Self {
            edges: Vec::with_capacity(2 * edges),
            first: vec![NONE; nodes],
            terminal: vec![0; nodes],
            parent: vec![NONE; nodes],
            sink: vec![false; nodes],
            active: std::collections::VecDeque::new(),
            queued: vec![false; nodes],
            seen: vec![0; nodes],
            distance: vec![0; nodes],
            orphans: Vec::new(),
            time: 0,
        }
    }

    /// Costs `on_source` when the node ends on the source's side, `on_sink` when on the sink's.
    pub(crate) fn cost(&mut self, node: usize, on_source: i32, on_sink: i32) {
        self.terminal[node] += i64::from(on_sink) - i64::from(on_source);
    }

    /// Costs `forth` when `a` ends on the source's side and `b` on the sink's, `back` the other way round.
    pub(crate) fn link(&mut self, a: usize, b: usize, forth: i32, back: i32) {
        for (from, to, left) in [(a, b, forth), (b, a, back)] {
            let next = std::mem::replace(&mut self.first[from], self.edges.len() as u32);
            self.edges.push(Edge { to: to as Node, next, left });
        }
    }

    /// Finds the minimum cut; for each node, whether it ends on the sink's side, which it does not where that costs the same.
    pub(crate) fn cut(mut self) -> Vec<bool> {
        for node in 0..self.first.len() {
            if self.terminal[node] != 0 {
                self.sink[node] = self.terminal[node] < 0;
                self.parent[node] = TERMINAL;
                self.distance[node] = 1;
                self.activate(node as Node);
            }
        }
        let mut current = None;
        while let Some(node) = current.take().or_else(|| self.next_active()) {
            if self.parent[node as usize] == NONE {
                continue;
            }
            if let Some(bridge) = self.grow(node) {
                self.time += 1;
                self.augment(bridge);
                self.adopt();
                current = Some(node);
            }
        }
        (0..self.first.len()).map(|n| self.parent[n] != NONE && self.sink[n]).collect()
    }

    fn activate(&mut self, node: Node) {
        if !std::mem::replace(&mut self.queued[node as usize], true) {
            self.active.push_back(node);
        }
    }

    fn next_active(&mut self) -> Option<Node> {
        let node = self.active.pop_front()?;
        self.queued[node as usize] = false;
        Some(node)
    }

    /// Takes in the free neighbours of a node; an edge from the source's tree to the sink's when one is met.
    fn grow(&mut self, node: Node) -> Option<u32> {
        let n = node as usize;
        let sink = self.sink[n];
        let mut e = self.first[n];
        while e != NONE {
            let edge = &self.edges[e as usize];
            let (to, next) = (edge.to as usize, edge.next);
            // The source's tree grows along edges with room, the sink's against them.
            let room = if sink { self.edges[(e ^ 1) as usize].left } else { edge.left };
            if room > 0 {
                if self.parent[to] == NONE {
                    self.sink[to] = sink;
                    self.parent[to] = e ^ 1;
                    self.seen[to] = self.seen[n];
                    self.distance[to] = self.distance[n] + 1;
                    self.activate(to as Node);
                } else if self.sink[to] != sink {
                    return Some(if sink { e ^ 1 } else { e });
                } else if self.seen[to] <= self.seen[n] && self.distance[to] > self.distance[n] + 1 {
                    self.parent[to] = e ^ 1;
                    self.seen[to] = self.seen[n];
                    self.distance[to] = self.distance[n] + 1;
                }
            }
            e = next;
        }
        None
    }

    /// Pushes what fits from terminal to terminal over an edge between the trees.
    fn augment(&mut self, bridge: u32) {
        let ends = [self.edges[(bridge ^ 1) as usize].to as usize, self.edges[bridge as usize].to as usize];
        let mut most = i64::from(self.edges[bridge as usize].left);
        for (side, &end) in ends.iter().enumerate() {
            let mut n = end;
            while self.parent[n] != TERMINAL {
                let up = self.parent[n];
                let carries = if side == 0 { up ^ 1 } else { up };
                most = most.min(i64::from(self.edges[carries as usize].left));
                n = self.edges[up as usize].to as usize;
            }
            most = most.min(self.terminal[n].abs());
        }
        let pushed = most as i32;
        self.edges[bridge as usize].left -= pushed;
        self.edges[(bridge ^ 1) as usize].left += pushed;
        for (side, &end) in ends.iter().enumerate() {
            let mut n = end;
            while self.parent[n] != TERMINAL {
                let up = self.parent[n];
                let carries = if side == 0 { up ^ 1 } else { up };
                let above = self.edges[up as usize].to as usize;
                self.edges[carries as usize].left -= pushed;
                self.edges[(carries ^ 1) as usize].left += pushed;
                if self.edges[carries as usize].left == 0 {
                    self.orphan(n);
                }
                n = above;
            }
            self.terminal[n] -= if side == 0 { most } else { -most };
            if self.terminal[n] == 0 {
                self.orphan(n);
            }
        }
    }

    fn orphan(&mut self, node: usize) {
        self.parent[node] = NONE;
        self.orphans.push(node as Node);
    }

    /// Finds new parents for orphans, or sets them free.
    fn adopt(&mut self) {
        while let Some(node) = self.orphans.pop() {
            let n = node as usize;
            let sink = self.sink[n];
            let mut best: Option<(u32, u32)> = None;
            let mut e = self.first[n];
            while e != NONE {
                let to = self.edges[e as usize].to as usize;
                let room = self.edges[if sink { e } else { e ^ 1 } as usize].left;
                if room > 0
                    && self.sink[to] == sink
                    && self.parent[to] != NONE
                    && let Some(d) = self.steps_up(to)
                    && best.is_none_or(|b| d < b.0)
                {
                    best = Some((d, e));
                }
                e = self.edges[e as usize].next;
            }
            if let Some((d, e)) = best {
                self.parent[n] = e;
                self.seen[n] = self.time;
                self.distance[n] = d + 1;
                continue;
            }
            let mut e = self.first[n];
            while e != NONE {
                let to = self.edges[e as usize].to as usize;
                if self.parent[to] != NONE && self.sink[to] == sink {
                    let room = self.edges[if sink { e } else { e ^ 1 } as usize].left;
                    if room > 0 {
                        self.activate(to as Node);
                    }
                    let up = self.parent[to];
                    if up != TERMINAL && self.edges[up as usize].to == node {
                        self.orphan(to);
                    }
                }
                e = self.edges[e as usize].next;
            }
        }
    }

    /// How many edges lie between a node and its terminal; `None` when its tree has lost the terminal.
    fn steps_up(&mut self, node: usize) -> Option<u32> {
        let (mut n, mut steps) = (node, 0);
        let end = loop {
            if self.seen[n] == self.time && self.parent[n] != NONE && self.time > 0 {
                break steps + self.distance[n];
            }
            match self.parent[n] {
                NONE => return None,
                TERMINAL => {
                    self.seen[n] = self.time;
                    self.distance[n] = 1;
                    break steps + 1;
                }
                up => n = self.edges[up as usize].to as usize,
            }
            steps += 1;
        };
        // Marks the way, so that it is not walked again.
        let (mut n, mut d) = (node, end);
        while self.seen[n] != self.time {
            self.seen[n] = self.time;
            self.distance[n] = d;
            d -= 1;
            n = self.edges[self.parent[n] as usize].to as usize;
        }
        Some(end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn energy(sides: &[bool], costs: &[(i32, i32)], links: &[(usize, usize, i32, i32)]) -> i64 {
        let nodes: i64 = sides.iter().zip(costs).map(|(&s, c)| i64::from(if s { c.1 } else { c.0 })).sum();
        let pairs: i64 = links
            .iter()
            .map(|&(a, b, forth, back)| match (sides[a], sides[b]) {
                (false, true) => i64::from(forth),
                (true, false) => i64::from(back),
                _ => 0,
            })
            .sum();
        nodes + pairs
    }

    proptest! {
        #[test]
        fn no_other_cut_is_cheaper_and_none_as_cheap_puts_less_on_the_sinks_side(
            costs in prop::collection::vec((0..20i32, 0..20i32), 2..9),
            links in prop::collection::vec((0..9usize, 0..9usize, 0..15i32, 0..15i32), 0..22)
        ) {
            let n = costs.len();
            let links: Vec<_> = links.into_iter().map(|(a, b, f, r)| (a % n, b % n, f, r)).filter(|l| l.0 != l.1).collect();
            let mut graph = Graph::new(n, links.len());
            costs.iter().enumerate().for_each(|(i, c)| graph.cost(i, c.0, c.1));
            links.iter().for_each(|&(a, b, f, r)| graph.link(a, b, f, r));
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
