//! Writes docs/validation.md and its plots: `cargo xtask validate`.

use std::fmt::Write as _;
use validation::{Experiment, all};

fn main() -> std::io::Result<()> {
    std::fs::create_dir_all("docs/validation")?;
    let experiments = all();
    let mut text = String::from(
        "# Validation\n\n\
         Experiments with a known answer, measured by `cargo xtask validate`, which writes this page. Each is also a\n\
         test (`crates/validation/tests`). The difference is of the expected value, or absolute where that is 0.\n\n\
         ## Solids\n\n\
         | experiment | formula | expected | measured | difference | allowed |\n| --- | --- | --- | --- | --- | --- |\n",
    );
    for e in &experiments {
        let show = |error: f64| {
            if e.expected == 0.0 {
                format!("{error:.3} {}", e.unit)
            } else {
                format!("{:.3} %", 100.0 * error)
            }
        };
        let _ = writeln!(
            text,
            "| [{}](#{}) | {} | {:.4} {u} | {:.4} {u} | {} | {} |",
            e.statement,
            e.key,
            e.formula,
            e.expected,
            e.measured,
            show(e.error()),
            show(e.tolerance),
            u = e.unit
        );
        assert!(e.holds(), "{} does not hold", e.key);
    }
    text.push_str(
        "\n## Renderer\n\n\
         Tests in `crates/picture`: `cargo test -p picture`.\n\n\
         | statement | allowed | test |\n| --- | --- | --- |\n\
         | A white body in a white furnace is invisible: matt, metal, glass and mixed looks, roughness 0, 0.25, 0.6, 1, \
         on a ball and a box, 8,192 samples a pixel. | 1 % in every pixel | `a_white_body_in_a_white_furnace_is_invisible` |\n\
         | A white look returns all light, from outside and inside, at cosines 0.1, 0.5, 0.95. | 1 % | \
         `a_white_look_returns_all_light` |\n\
         | A matt ball under a sun matches Lambert's cosine law. | 1 % over the ball, 2 % a pixel | \
         `a_matt_ball_under_a_sun_matches_lambert` |\n\
         | A matt ball under an area light matches Lambert's polygon formula (1760). | 1 % | \
         `a_matt_ball_under_an_area_light_matches_lamberts_polygon_formula` |\n\
         | Noise falls with the root of the samples or faster (16 to 256 samples). | a factor of 4, less 25 % | \
         `noise_falls_with_the_root_of_the_samples_or_faster` |\n\
         | EXR and PNG of one frame agree through the display transform. | one code value | \
         `exr_and_png_agree_through_the_display_transform` |\n\
         | The picture is the same for one thread and two. | none | `the_picture_does_not_depend_on_the_number_of_threads` |\n\n\
         ## Plots\n\nMeasured: line. Expected: dashes.\n",
    );
    for e in &experiments {
        let _ = write!(
            text,
            "\n### {}\n\n{} Expected: {}.\n\n![{}](validation/{}.svg)\n",
            e.key, e.statement, e.formula, e.statement, e.key
        );
        std::fs::write(format!("docs/validation/{}.svg", e.key), plot(e))?;
    }
    std::fs::write("docs/validation.md", text)
}

/// The curves as an SVG of 480 × 240.
fn plot(e: &Experiment) -> String {
    let points = || e.curve.iter().chain(&e.reference);
    let range = |of: &dyn Fn(&(f64, f64)) -> f64| {
        let (low, high) =
            points().map(of).fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| (a.min(v), b.max(v)));
        if high - low < 1e-9 { (low - 1.0, high + 1.0) } else { (low, high) }
    };
    let ((x0, x1), (y0, y1)) = (range(&|p| p.0), range(&|p| p.1));
    let at = |p: &(f64, f64)| (60.0 + 400.0 * (p.0 - x0) / (x1 - x0), 200.0 - 180.0 * (p.1 - y0) / (y1 - y0));
    let line = |points: &[(f64, f64)]| {
        points.iter().map(at).map(|(x, y)| format!("{x:.1},{y:.1}")).collect::<Vec<_>>().join(" ")
    };
    let label = |v: f64| format!("{}", (v * 1000.0).round() / 1000.0);
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 480 240\" font-family=\"sans-serif\" font-size=\"11\">\
         <rect width=\"480\" height=\"240\" fill=\"#f8faf8\"/>\
         <path d=\"M60 20V200H460\" fill=\"none\" stroke=\"#98a7a3\"/>\
         <polyline points=\"{}\" fill=\"none\" stroke=\"#8d5028\" stroke-width=\"2\"/>\
         <polyline points=\"{}\" fill=\"none\" stroke=\"#0c7068\" stroke-width=\"1.5\" stroke-dasharray=\"5 4\"/>\
         <g fill=\"#475654\"><text x=\"60\" y=\"215\">{}</text><text x=\"460\" y=\"215\" text-anchor=\"end\">{}</text>\
         <text x=\"260\" y=\"230\" text-anchor=\"middle\">{}</text><text x=\"55\" y=\"203\" text-anchor=\"end\">{}</text>\
         <text x=\"55\" y=\"28\" text-anchor=\"end\">{}</text><text x=\"62\" y=\"14\">{}</text></g></svg>\n",
        line(&e.curve),
        line(&e.reference),
        label(x0),
        label(x1),
        e.axes.0,
        label(y0),
        label(y1),
        e.axes.1
    )
}
