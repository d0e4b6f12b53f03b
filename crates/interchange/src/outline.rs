//! Outlines as strokes: letters of the shipped font, and drawings.

use crate::{ImportError, MAX_FILE, drawing_bounds};
use glam::{Vec2, Vec3};
use kurbo::{BezPath, PathEl, Shape as _};
use usvg::roxmltree;
use usvg::tiny_skia_path::PathSegment;

/// Points of one stroke after the other, m, in the xy plane.
pub type Strokes = Vec<Vec<Vec3>>;

/// Schibsted Grotesk, weight 600; under the SIL Open Font License, beside it.
const FONT: &[u8] = include_bytes!("../fonts/SchibstedGrotesk-SemiBold.ttf");
/// The most letters of one text.
pub const MAX_LETTERS: usize = 200;
/// The most points and strokes of one outline.
const MAX_POINTS: usize = 20_000;
const MAX_STROKES: usize = 2_000;
/// The most nodes of a drawing.
const MAX_NODES: u32 = 100_000;
/// How far a straight piece may be from the curve, as a fraction of the whole's size.
const FLATNESS: f64 = 5e-4;

/// The outlines of letters, centred in x, with the first line standing on
/// y = 0 and `line_m` from line to line.
///
/// # Errors
/// [`ImportError`] names a letter that the font does not have.
pub fn outline_text(text: &str, line_m: f32) -> Result<Strokes, ImportError> {
    let fail = |message: String| ImportError::file("text", message);
    let count = text.chars().count();
    if count > MAX_LETTERS {
        return Err(fail(format!("{count} letters; at most {MAX_LETTERS}")));
    }
    if !(0.001..=1_000.0).contains(&line_m) {
        return Err(fail(format!("the line height {line_m} m is outside 0.001 to 1000")));
    }
    let face = ttf_parser::Face::parse(FONT, 0).expect("the shipped font can be read");
    let em = f64::from(face.units_per_em());
    // Line to line 1.2 em, as is usual.
    let scale = f64::from(line_m) / (1.2 * em);
    let mut whole = BezPath::new();
    for (row, line) in text.lines().enumerate() {
        let mut glyphs = Vec::new();
        let mut width = 0.0;
        for letter in line.chars() {
            let glyph = face
                .glyph_index(letter)
                .ok_or_else(|| fail(format!("the font has no letter \"{letter}\"; use Latin letters")))?;
            glyphs.push((glyph, width));
            width += f64::from(face.glyph_hor_advance(glyph).unwrap_or(0));
        }
        for (glyph, at) in glyphs {
            let mut pen = Pen::default();
            face.outline_glyph(glyph, &mut pen);
            let offset = (at - 0.5 * width, -1.2 * em * row as f64);
            whole.extend(kurbo::Affine::translate(offset) * pen.0);
        }
    }
    whole.apply_affine(kurbo::Affine::scale(scale));
    let strokes = flattened(&whole, f64::from(line_m) * FLATNESS);
    if strokes.is_empty() {
        return Err(fail("has no letters with an outline".to_owned()));
    }
    bounded("text", strokes)
}

/// The paths of an SVG drawing, one metre along its longer side, centred, y up.
/// Fills and strokes count alike: each path becomes its line.
///
/// # Errors
/// [`ImportError`] says what is wrong with the file.
pub fn outline_svg(name: &str, bytes: &[u8]) -> Result<Strokes, ImportError> {
    let fail = |message: String| ImportError::file(name, message);
    if bytes.len() > MAX_FILE {
        return Err(fail(format!("{} MB; at most {}", bytes.len() >> 20, MAX_FILE >> 20)));
    }
    let text =
        std::str::from_utf8(bytes).map_err(|_| fail("is not an SVG drawing: it is not text".to_owned()))?;
    let limits = roxmltree::ParsingOptions { allow_dtd: true, nodes_limit: MAX_NODES, ..Default::default() };
    let document = roxmltree::Document::parse_with_options(text, limits)
        .map_err(|error| fail(format!("is not an SVG drawing: {error}")))?;
    drawing_bounds::check(&document).map_err(fail)?;
    // Nothing outside the file is read.
    let image_href_resolver = usvg::ImageHrefResolver {
        resolve_data: Box::new(|_, _, _| None),
        resolve_string: Box::new(|_, _| None),
    };
    let options = usvg::Options { image_href_resolver, resources_dir: None, ..Default::default() };
    let tree = usvg::Tree::from_xmltree(&document, &options)
        .map_err(|error| fail(format!("is not an SVG drawing: {error}")))?;
    let mut whole = BezPath::new();
    collect(tree.root(), &mut whole);
    let bounds = whole.bounding_box();
    let size = bounds.width().max(bounds.height());
    if whole.elements().is_empty() || !(size.is_finite() && size > 0.0) {
        return Err(fail("has no paths; letters in it have to be turned into paths first".to_owned()));
    }
    let centre = bounds.center();
    let position = kurbo::Affine::scale_non_uniform(1.0 / size, -1.0 / size)
        * kurbo::Affine::translate((-centre.x, -centre.y));
    whole.apply_affine(position);
    bounded(name, flattened(&whole, FLATNESS))
}

fn collect(group: &usvg::Group, whole: &mut BezPath) {
    for node in group.children() {
        match node {
            usvg::Node::Group(group) => collect(group, whole),
            usvg::Node::Path(path) => {
                let to_page = path.abs_transform();
                let Some(data) = path.data().clone().transform(to_page) else { continue };
                let point = |p: usvg::tiny_skia_path::Point| (f64::from(p.x), f64::from(p.y));
                for segment in data.segments() {
                    match segment {
                        PathSegment::MoveTo(p) => whole.move_to(point(p)),
                        PathSegment::LineTo(p) => whole.line_to(point(p)),
                        PathSegment::QuadTo(a, p) => whole.quad_to(point(a), point(p)),
                        PathSegment::CubicTo(a, b, p) => whole.curve_to(point(a), point(b), point(p)),
                        PathSegment::Close => whole.close_path(),
                    }
                }
            }
            usvg::Node::Image(_) | usvg::Node::Text(_) => {}
        }
    }
}

/// Straight pieces, at most `tolerance` from the path.
fn flattened(path: &BezPath, tolerance: f64) -> Strokes {
    let mut strokes: Vec<Vec<Vec2>> = Vec::new();
    kurbo::flatten(path, tolerance, |piece| match piece {
        PathEl::MoveTo(p) => strokes.push(vec![Vec2::new(p.x as f32, p.y as f32)]),
        PathEl::LineTo(p) => {
            if let Some(stroke) = strokes.last_mut() {
                let next = Vec2::new(p.x as f32, p.y as f32);
                if stroke.last() != Some(&next) {
                    stroke.push(next);
                }
            }
        }
        PathEl::ClosePath => {
            if let Some(stroke) = strokes.last_mut()
                && stroke.first() != stroke.last()
            {
                stroke.push(stroke[0]);
            }
        }
        PathEl::QuadTo(..) | PathEl::CurveTo(..) => unreachable!("it is flat"),
    });
    let whole = strokes.into_iter().filter(|stroke| stroke.len() > 1);
    whole.map(|stroke| stroke.into_iter().map(|p| p.extend(0.0)).collect()).collect()
}

fn bounded(name: &str, strokes: Strokes) -> Result<Strokes, ImportError> {
    let points: usize = strokes.iter().map(Vec::len).sum();
    if strokes.len() > MAX_STROKES || points > MAX_POINTS {
        let message = format!(
            "{} strokes of {points} points; at most {MAX_STROKES} of {MAX_POINTS}: simplify it first",
            strokes.len()
        );
        return Err(ImportError::file(name, message));
    }
    Ok(strokes)
}

#[derive(Default)]
struct Pen(BezPath);

impl ttf_parser::OutlineBuilder for Pen {
    fn move_to(&mut self, x: f32, y: f32) {
        self.0.move_to((f64::from(x), f64::from(y)));
    }

    fn line_to(&mut self, x: f32, y: f32) {
        self.0.line_to((f64::from(x), f64::from(y)));
    }

    fn quad_to(&mut self, a: f32, b: f32, x: f32, y: f32) {
        self.0.quad_to((f64::from(a), f64::from(b)), (f64::from(x), f64::from(y)));
    }

    fn curve_to(&mut self, a: f32, b: f32, c: f32, d: f32, x: f32, y: f32) {
        let [p, q, r] = [(a, b), (c, d), (x, y)].map(|(x, y)| (f64::from(x), f64::from(y)));
        self.0.curve_to(p, q, r);
    }

    fn close(&mut self) {
        self.0.close_path();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn bounds(strokes: &Strokes) -> (Vec3, Vec3) {
        let points = || strokes.iter().flatten().copied();
        (points().reduce(Vec3::min).unwrap(), points().reduce(Vec3::max).unwrap())
    }

    fn svg(body: &str) -> Vec<u8> {
        format!(r#"<svg xmlns="http://www.w3.org/2000/svg" width="200" height="100">{body}</svg>"#)
            .into_bytes()
    }

    #[test]
    fn letters_are_closed_outlines_that_stand_on_the_line() {
        let strokes = outline_text("BOo", 0.6).unwrap();
        // Two bowls and the outside of B, two rings.
        assert_eq!(strokes.len(), 3 + 2 + 2);
        assert!(strokes.iter().all(|stroke| stroke.first() == stroke.last()));
        let (low, high) = bounds(&strokes);
        // Capitals of most fonts are about 0.7 em high; an em is 0.5 m here.
        assert!((0.3..0.4).contains(&high.y) && (-0.02..=0.0).contains(&low.y), "{low} {high}");
        assert!((low.x + high.x).abs() < 0.03, "centred: {low} {high}");
    }

    #[test]
    fn lines_lie_below_each_other_and_accents_are_there() {
        let strokes = outline_text("Ålø\nøyå", 1.0).unwrap();
        let (low, high) = bounds(&strokes);
        assert!(high.y > 0.6 && low.y < -1.0, "{low} {high}");
    }

    #[rstest]
    #[case("", 1.0, "no letters")]
    #[case("潮", 1.0, "the font has no letter \"潮\"")]
    #[case("Quay", 0.0, "outside 0.001 to 1000")]
    #[case(&"long ".repeat(50), 1.0, "250 letters; at most 200")]
    fn a_text_without_outlines_is_refused(#[case] text: &str, #[case] line_m: f32, #[case] why: &str) {
        let error = outline_text(text, line_m).unwrap_err().to_string();
        assert!(error.contains(why), "{error}");
    }

    #[test]
    fn a_drawing_is_a_metre_wide_centred_and_upright() {
        let body = r#"<g transform="translate(10 20) scale(2)"><path d="M0 0 H80 V40"/></g>"#;
        let strokes = outline_svg("quay.svg", &svg(body)).unwrap();
        let corners = [[-0.5, 0.25], [0.5, 0.25], [0.5, -0.25]].map(|[x, y]| Vec3::new(x, y, 0.0));
        assert_eq!(strokes.len(), 1);
        assert!(strokes[0].iter().zip(corners).all(|(found, wanted)| found.distance(wanted) < 1e-5));
    }

    #[rstest]
    #[case(r#"<circle cx="50" cy="50" r="40"/>"#, 1)]
    #[case(r#"<rect x="1" y="2" width="30" height="20"/><polyline points="0,0 10,10 20,0" stroke="red" fill="none"/>"#, 2)]
    #[case(r##"<defs><path id="a" d="M0 0 L9 9"/></defs><use href="#a" stroke="black"/><use href="#a" x="20" stroke="black"/>"##, 2)]
    fn shapes_and_references_are_paths_too(#[case] body: &str, #[case] strokes: usize) {
        assert_eq!(outline_svg("a.svg", &svg(body)).unwrap().len(), strokes);
    }

    #[test]
    fn a_circle_is_flattened_closely() {
        let strokes = outline_svg("a.svg", &svg(r#"<circle cx="50" cy="50" r="40"/>"#)).unwrap();
        let points = &strokes[0];
        assert!((16..200).contains(&points.len()), "{} points", points.len());
        for pair in points.windows(2) {
            let middle = 0.5 * (pair[0] + pair[1]);
            assert!((middle.length() - 0.5).abs() < 2e-3, "{}", middle.length());
        }
    }

    fn nested(levels: usize) -> Vec<u8> {
        let open = "<g>".repeat(levels);
        let close = "</g>".repeat(levels);
        svg(&format!(r#"{open}<path d="M0 0 H9 V9"/>{close}"#))
    }

    /// Ten of ten of ten…
    fn laughing(levels: usize) -> Vec<u8> {
        let mut body = r#"<path id="u0" d="M0 0 H9"/>"#.to_owned();
        for level in 1..=levels {
            let uses = format!(r##"<use href="#u{}"/>"##, level - 1).repeat(10);
            body += &format!(r#"<g id="u{level}">{uses}</g>"#);
        }
        svg(&body)
    }

    #[rstest]
    #[case(nested(1_000), "nested")]
    #[case(nested(40_000), "nested")]
    #[case(laughing(8), "with all that is used again")]
    #[case(
        svg(r##"<g id="a"><use href="#b"/></g><g id="b"><use href="#a"/></g>"##),
        "with all that is used again"
    )]
    #[case(svg(r#"<path d="M0 0 A1e30 1e30 0 0 1 9 9"/>"#), "a number beyond")]
    #[case(svg(r#"<path d="M0 0 L9999999999 3"/>"#), "a number beyond")]
    #[case(svg(&format!("<style>{}</style><path d='M0 0 H9'/>", ".a{fill:red}".repeat(150_000))), "styles of")]
    fn what_would_fill_the_memory_or_run_for_ever_is_refused(#[case] bytes: Vec<u8>, #[case] why: &str) {
        let started = std::time::Instant::now();
        let error = outline_svg("a.svg", &bytes).unwrap_err().to_string();
        assert!(error.contains(why), "{error}");
        assert!(started.elapsed().as_secs() < 5, "{:?}", started.elapsed());
    }

    #[test]
    fn many_arcs_are_a_drawing_or_refused_in_a_sentence() {
        let arcs = "a3 3 0 0 1 2 2 a3 3 0 0 1 -2 -2 ".repeat(5_000);
        match outline_svg("a.svg", &svg(&format!(r#"<path d="M0 0 {arcs}"/>"#))) {
            Ok(strokes) => assert_eq!(strokes.len(), 1),
            Err(error) => assert!(error.to_string().contains("simplify it first"), "{error}"),
        }
    }

    #[test]
    fn files_beside_a_drawing_are_not_opened() {
        let body = r#"<image href="/etc/hostname" width="9" height="9"/><path d="M0 0 H9"/>"#;
        assert_eq!(outline_svg("a.svg", &svg(body)).unwrap().len(), 1);
    }

    #[rstest]
    #[case(b"<svg", "is not an SVG drawing")]
    #[case(&svg("<text>Quay</text>"), "has no paths")]
    #[case(b"v 0 0 0", "is not an SVG drawing")]
    fn what_is_no_drawing_is_refused(#[case] bytes: &[u8], #[case] why: &str) {
        let error = outline_svg("a.svg", bytes).unwrap_err().to_string();
        assert!(error.contains(why), "{error}");
    }
}
