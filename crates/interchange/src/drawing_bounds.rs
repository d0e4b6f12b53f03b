//! Bounds on a drawing, checked before anything is allocated for it.

use std::collections::HashMap;
use usvg::roxmltree::{Document, Node, NodeId};

/// Deepest nesting of groups.
const MAX_DEPTH: usize = 200;
/// Most nodes, with all that is used again counted each time.
const MAX_EXPANDED: u64 = 100_000;
/// Most bytes of style sheets.
const MAX_STYLES: usize = 64 << 10;
/// Largest number.
const MAX_NUMBER: f64 = 1e7;

/// Refuses what would take the parser's stack, memory or time.
///
/// # Errors
/// One sentence.
pub(crate) fn check(document: &Document) -> Result<(), String> {
    let mut styles = 0;
    let mut depths: HashMap<NodeId, usize> = HashMap::new();
    for node in document.descendants().filter(Node::is_element) {
        let depth = node.parent().and_then(|parent| depths.get(&parent.id())).map_or(0, |depth| depth + 1);
        if depth > MAX_DEPTH {
            return Err(format!("is nested deeper than {MAX_DEPTH} groups"));
        }
        depths.insert(node.id(), depth);
        if node.tag_name().name() == "style" {
            styles += node.children().filter_map(|child| child.text()).map(str::len).sum::<usize>();
        }
        for attribute in node.attributes().filter(|attribute| is_geometry(attribute.name())) {
            if numbers(attribute.value()).any(|number| number.abs() > MAX_NUMBER) {
                return Err(format!("has a number beyond {MAX_NUMBER} in {}", attribute.name()));
            }
        }
    }
    if styles > MAX_STYLES {
        return Err(format!("has styles of {} kB; at most {} kB", styles >> 10, MAX_STYLES >> 10));
    }
    let expanded = Expanded::new(document).size(document.root_element(), 0);
    if expanded > MAX_EXPANDED {
        return Err(format!("has more than {MAX_EXPANDED} nodes with all that is used again"));
    }
    Ok(())
}

fn is_geometry(name: &str) -> bool {
    const NAMES: [&str; 18] = [
        "d",
        "points",
        "transform",
        "x",
        "y",
        "x1",
        "x2",
        "y1",
        "y2",
        "cx",
        "cy",
        "r",
        "rx",
        "ry",
        "width",
        "height",
        "viewBox",
        "stroke-width",
    ];
    NAMES.contains(&name)
}

/// The numbers in an attribute.
fn numbers(text: &str) -> impl Iterator<Item = f64> + '_ {
    let is_part = |c: char| c.is_ascii_digit() || matches!(c, '.' | 'e' | 'E' | '+' | '-');
    // A sign that does not follow an exponent begins another number; the
    // magnitude is what counts.
    text.split(move |c: char| !is_part(c)).flat_map(|run| {
        let mut parts = Vec::new();
        let mut start = 0;
        let bytes = run.as_bytes();
        for i in 1..bytes.len() {
            if matches!(bytes[i], b'+' | b'-') && !matches!(bytes[i - 1], b'e' | b'E') {
                parts.push(&run[start..i]);
                start = i;
            }
        }
        parts.push(&run[start..]);
        parts.into_iter().filter_map(|part| part.trim_end_matches(['e', 'E', '.']).parse().ok())
    })
}

/// Counts nodes with their uses.
struct Expanded<'a, 'input> {
    by_id: HashMap<&'a str, Node<'a, 'input>>,
    known: HashMap<NodeId, u64>,
}

impl<'a, 'input> Expanded<'a, 'input> {
    fn new(document: &'a Document<'input>) -> Self {
        let named = document.descendants().filter_map(|node| Some((node.attribute("id")?, node)));
        Self { by_id: named.collect(), known: HashMap::new() }
    }

    /// Nodes of a subtree; `uses` is how many references led here.
    fn size(&mut self, node: Node<'a, 'input>, uses: usize) -> u64 {
        if let Some(&known) = self.known.get(&node.id()) {
            return known;
        }
        // A circle of references has no end.
        if uses > MAX_DEPTH {
            return MAX_EXPANDED + 1;
        }
        let mut size = 1u64;
        for child in node.children().filter(Node::is_element) {
            size = size.saturating_add(self.size(child, uses));
        }
        let target = node
            .attributes()
            .find(|attribute| attribute.name() == "href")
            .and_then(|attribute| self.by_id.get(attribute.value().strip_prefix('#')?).copied());
        if let Some(target) = target {
            size = size.saturating_add(self.size(target, uses + 1));
        }
        self.known.insert(node.id(), size);
        size
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_found_however_they_are_written() {
        let found: Vec<f64> = numbers("M-1.5-2e3,4.5.5L1e-3 7").collect();
        assert!(
            found.contains(&-1.5) && found.contains(&-2e3) && found.contains(&1e-3) && found.contains(&7.0)
        );
        assert_eq!(numbers("rotate(45 1e30)").filter(|n| *n > MAX_NUMBER).count(), 1);
    }
}
