//! Writes docs/validation.md and its plots: `cargo xtask validate`. With names of chapters these alone are measured, and take the place of
//! those in the page.

use std::fmt::Write as _;
use std::io;
use validation::{CHAPTERS, Experiment};

const PAGE: &str = "docs/validation.md";
const DEPARTURES: &str = "Known departures";
const HEAD: &str = "# Validation\n\n\
    Experiments with a known answer, measured by `cargo xtask validate`, which writes this page. Each is also a\n\
    test (`crates/validation/tests`), but for a few that take minutes. The difference is of the expected value, or absolute where that is 0.\n\n\
    Measured in the plots: line. Expected: dashes.\n";

fn main() -> io::Result<()> {
    std::fs::create_dir_all("docs/validation")?;
    let chosen: Vec<String> = std::env::args().skip(1).collect();
    let names = || CHAPTERS.iter().map(|(name, _)| *name).chain([DEPARTURES]);
    if let Some(unknown) = chosen.iter().find(|of| !names().any(|name| name == *of)) {
        let all = names().collect::<Vec<_>>().join(", ");
        return Err(io::Error::other(format!("there is no chapter {unknown}; the chapters are {all}")));
    }
    let page = if chosen.is_empty() { String::new() } else { std::fs::read_to_string(PAGE)? };
    let mut text = String::from(HEAD);
    for name in names() {
        if chosen.is_empty() || chosen.iter().any(|of| of == name) {
            let experiments =
                CHAPTERS.iter().find(|(of, _)| *of == name).map(|(_, experiments)| experiments());
            text.push_str(&experiments.map_or_else(|| Ok(departures()), |of| chapter(name, &of))?);
        } else {
            text.push_str(in_page(&page, name).unwrap_or_default());
        }
    }
    std::fs::write(PAGE, text)
}

/// A chapter as it stands in a page.
fn in_page<'a>(page: &'a str, name: &str) -> Option<&'a str> {
    let from = &page[page.find(&format!("\n## {name}\n"))?..];
    Some(from[1..].find("\n## ").map_or(from, |end| &from[..end + 1]))
}

fn chapter(name: &str, experiments: &[Experiment]) -> io::Result<String> {
    let mut text = format!(
        "\n## {name}\n\n\
         | experiment | formula | expected | measured | difference | allowed |\n| --- | --- | --- | --- | --- | --- |\n"
    );
    experiments.iter().for_each(Experiment::assert_holds);
    experiments.iter().for_each(|e| text.push_str(&row(e)));
    text.push_str(match name {
        "Loops" => {
            "\nAlso tested in `crates/frames`: blends of weight 0 and 1 have the bytes of the runs. In `crates/interchange`: OBJ, GLB,\n\
             USD and Alembic that are handed on are read back by ourselves and by the formats' own libraries, with their times,\n\
             within 10 µm of each place. In `crates/simulate`: over random changes to random shots, frames called fresh have the\n\
             bytes of a full bake, in every system; of 11,734 parts called stale 27 % came out the same.\n"
        }
        "Renderer" => {
            "\nAlso tested in `crates/picture` and `crates/interchange`: the furnace with boxes, each look's scattering\n\
             against its stated density, EXR and PNG of one frame through the display transform (one code value), the\n\
             same picture for one thread and two.\n"
        }
        _ => "",
    });
    for e in experiments {
        let _ = write!(
            text,
            "\n### {}\n\n{} Expected: {}.\n\n![{}](validation/{}.svg)\n",
            e.key, e.statement, e.formula, e.statement, e.key
        );
        std::fs::write(format!("docs/validation/{}.svg", e.key), plot(e))?;
    }
    Ok(text)
}

fn departures() -> String {
    let mut text = format!(
        "\n## {DEPARTURES}\n\nWhat is known to depart from mechanics, measured in the same run.\n\n\
         | what should hold | expected | measured | why it does not |\n| --- | --- | --- | --- |\n"
    );
    for d in validation::departures::all() {
        let _ = writeln!(
            text,
            "| {} | {:.3} {u} | {:.3} {u} | {} |",
            d.statement,
            d.expected,
            d.measured,
            d.why,
            u = d.unit
        );
    }
    text
}

/// A row of the table.
fn row(e: &Experiment) -> String {
    let number = |value: f64| format!("{value:.4} {}", e.unit).trim_end().to_owned();
    let show = |error: f64| if e.expected == 0.0 { number(error) } else { format!("{:.3} %", 100.0 * error) };
    format!(
        "| [{}](#{}) | {} | {} | {} | {} | {} |\n",
        e.statement,
        e.key,
        e.formula,
        number(e.expected),
        number(e.measured),
        show(e.error()),
        show(e.tolerance),
    )
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
