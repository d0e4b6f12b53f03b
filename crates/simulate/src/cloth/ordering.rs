//! The order in which unknowns are eliminated: nested dissection (A. George, *Nested dissection of a
//! regular finite element mesh*, 1973), by the positions of the vertices.

use glam::Vec3;

/// Up to this number the vertices are not divided further.
const LEAF: usize = 24;

/// The vertices in the order of elimination. `neighbours` lists the vertices next to each.
pub(super) fn nested_dissection(positions: &[Vec3], neighbours: &[Vec<u32>]) -> Vec<u32> {
    let mut order = Vec::with_capacity(positions.len());
    // 0: in no part; else the number of the part at hand that a vertex is in.
    let mut part_of = vec![0u32; positions.len()];
    let all = (0..positions.len() as u32).collect();
    let mut next_part = 1;
    divide(all, positions, neighbours, &mut part_of, &mut next_part, &mut order);
    order
}

fn divide(
    mut vertices: Vec<u32>,
    positions: &[Vec3],
    neighbours: &[Vec<u32>],
    part_of: &mut [u32],
    next_part: &mut u32,
    order: &mut Vec<u32>,
) {
    if vertices.len() <= LEAF {
        order.append(&mut vertices);
        return;
    }
    let at = |v: u32| positions[v as usize];
    let (low, high) = vertices
        .iter()
        .fold((Vec3::INFINITY, Vec3::NEG_INFINITY), |(low, high), &v| (low.min(at(v)), high.max(at(v))));
    let axis = (high - low).max_position();
    let middle = vertices.len() / 2;
    vertices.select_nth_unstable_by(middle, |&a, &b| at(a)[axis].total_cmp(&at(b)[axis]).then(a.cmp(&b)));
    let second = vertices.split_off(middle);
    let part = *next_part;
    *next_part += 1;
    second.iter().for_each(|&v| part_of[v as usize] = part);
    // The vertices of the first half that touch the second separate the two.
    let touches = |v: &u32| neighbours[*v as usize].iter().any(|&other| part_of[other as usize] == part);
    let (mut separator, first): (Vec<u32>, Vec<u32>) = vertices.into_iter().partition(touches);
    second.iter().for_each(|&v| part_of[v as usize] = 0);
    separator.sort_unstable_by(|&a, &b| {
        let key = |v: u32| at(v).to_array();
        key(a).partial_cmp(&key(b)).unwrap_or(std::cmp::Ordering::Equal).then(a.cmp(&b))
    });
    divide(first, positions, neighbours, part_of, next_part, order);
    divide(second, positions, neighbours, part_of, next_part, order);
    order.append(&mut separator);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_vertex_comes_once_and_halves_come_before_what_divides_them() {
        let side = 20u32;
        let positions: Vec<Vec3> =
            (0..side * side).map(|i| Vec3::new((i % side) as f32, (i / side) as f32, 0.0)).collect();
        let near = |a: u32| -> Vec<u32> {
            let close = |b: &u32| *b != a && positions[*b as usize].distance(positions[a as usize]) < 1.5;
            (0..side * side).filter(close).collect()
        };
        let neighbours: Vec<Vec<u32>> = (0..side * side).map(near).collect();
        let order = nested_dissection(&positions, &neighbours);
        let mut sorted = order.clone();
        sorted.sort_unstable();
        assert_eq!(sorted, (0..side * side).collect::<Vec<_>>());
        // The last ones are one column or row, in the middle.
        let last = &order[order.len() - side as usize..];
        let x: Vec<f32> = last.iter().map(|&v| positions[v as usize].x).collect();
        assert!(x.iter().all(|at| *at == x[0]) && (8.0..11.0).contains(&x[0]), "{x:?}");
    }
}
