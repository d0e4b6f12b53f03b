//! What both schemes have in common: how sharp edges and points mix with smooth ones.

use super::cage::{Cage, Edge, Edges, Rule};
use super::stencils::Stencils;

/// Adds a row for each point; `smooth` adds the weights of one that is smooth.
pub(super) fn add_points(
    cage: &Cage,
    edges: &Edges,
    out: &mut Stencils,
    smooth: impl Fn(u32, &mut Stencils),
) {
    for point in 0..cage.points as u32 {
        let rule = edges.rule(cage, point);
        let part = match rule {
            Rule::Smooth => 1.0,
            Rule::Crease(_, weight) | Rule::Stays(weight) => 1.0 - weight,
        };
        if part > 0.0 {
            smooth(point, out);
            out.scale(part);
        }
        match rule {
            Rule::Smooth => {}
            Rule::Crease(ends, weight) => {
                out.add(point, 0.75 * weight);
                ends.iter().for_each(|&end| out.add(end, 0.125 * weight));
            }
            Rule::Stays(weight) => out.add(point, weight),
        }
        out.end_row();
    }
}

/// Adds a row for the middle of each edge; `smooth` adds the weights of one that is smooth.
pub(super) fn add_edges(edges: &Edges, out: &mut Stencils, smooth: impl Fn(&Edge, &mut Stencils)) {
    for edge in &edges.list {
        let sharp = edge.sharpness.min(1.0);
        if sharp < 1.0 {
            smooth(edge, out);
            out.scale(1.0 - sharp);
        }
        if sharp > 0.0 {
            edge.points.iter().for_each(|&point| out.add(point, 0.5 * sharp));
        }
        out.end_row();
    }
}
