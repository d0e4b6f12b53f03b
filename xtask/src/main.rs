//! The project's own commands: `cargo xtask demo`, `test`, `bench`, `types`,
//! `validate`, `screenshots`.

use anyhow::{Context, Result, bail};
use std::path::{Path, PathBuf};
use std::process::Command;

const USAGE: &str = "usage: cargo xtask COMMAND

  demo [--data-dir DIR] [--port N]   build all and serve it with the Saltmarket shots
  test                               formatting, lints, types, all tests
  libraries                          install the libraries of file formats that tests compare with
  bench                              benchmarks, printed as ratios
  types                              generate the front end's types from the server's description
  validate [CHAPTER ...]             measure, and write docs/validation.md with its plots; cut every sample at every frame
  screenshots                        take the pictures in docs/screenshots
  posters                            render the posters that the sample shots come with";

fn main() -> Result<()> {
    let mut arguments = std::env::args().skip(1);
    let command = arguments.next().unwrap_or_default();
    let rest: Vec<String> = arguments.collect();
    std::env::set_current_dir(root())?;
    match command.as_str() {
        "demo" => demo(&rest),
        "test" => test(),
        "bench" => bench(),
        "libraries" => libraries(),
        "types" => types(),
        "validate" => {
            // The whole workspace, so that its build is shared.
            cargo(&["build", "--workspace"])?;
            let chapters: Vec<&str> = rest.iter().map(|of| of.as_ref()).collect();
            run("target/debug/validation", &chapters, ".")?;
            if !chapters.is_empty() {
                return Ok(());
            }
            // Every sample cut at every frame.
            let cut = ["BRIGHT_RIPPLE_EVERY_CUT=1", "cargo", "test", "--workspace", "--test", "samples"];
            run("env", &cut, ".")
        }
        "posters" => posters(),
        "screenshots" => {
            web()?;
            cargo(&["build"])?;
            browser()?;
            run("node", &["screenshots.mjs"], "e2e")
        }
        _ => bail!("{USAGE}"),
    }
}

/// Renders the poster of each sample shot from its own frame.
fn posters() -> Result<()> {
    cargo(&["build", "--workspace"])?;
    let program = "target/debug/bright-ripple";
    let work = std::env::temp_dir().join(format!("bright-ripple-posters-{}", std::process::id()));
    let at = |part: &str| work.join(part).display().to_string();
    let (shot, run_folder, film) = (at("shot.json"), at("run"), at("film"));
    let names = Command::new(program).arg("sample").output()?.stdout;
    for name in String::from_utf8(names)?.lines() {
        let _ = std::fs::remove_dir_all(&work);
        run(program, &["sample", name, "--out", &at("")], ".")?;
        let text = std::fs::read_to_string(&shot)?;
        let after = text.split_once("\"poster\": ").context("a sample has a poster")?.1;
        let frame: u32 = after.split([',', '\n']).next().unwrap_or_default().parse()?;
        // A finished frame may be made of any.
        run(program, &["bake", &shot, "--out", &run_folder], ".")?;
        let frames = format!("{frame}-{frame}");
        let how = ["--frames", &frames, "--size", "480x270", "--samples", "96", "--clamp"];
        run(
            program,
            &[&["render", &shot, "--run", &run_folder, "--out", &film][..], &how[..]].concat(),
            ".",
        )?;
        let file = name.to_lowercase().replace(' ', "_");
        let picture = work.join("film").join(format!("frame-{frame:05}.png"));
        std::fs::copy(picture, format!("crates/studio/src/demo/posters/{file}.png"))?;
    }
    Ok(std::fs::remove_dir_all(&work)?)
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("xtask lies in the project").to_owned()
}

fn run(program: &str, arguments: &[&str], folder: &str) -> Result<()> {
    println!("· {program} {}", arguments.join(" "));
    let status = Command::new(program)
        .args(arguments)
        .current_dir(folder)
        .env("npm_config_update_notifier", "false")
        .env("PLAYWRIGHT_SKIP_BROWSER_DOWNLOAD", "1")
        .status()
        .with_context(|| format!("{program} cannot be started; is it installed?"))?;
    if !status.success() {
        bail!("{program} {} failed", arguments.join(" "));
    }
    Ok(())
}

fn cargo(arguments: &[&str]) -> Result<()> {
    run("cargo", arguments, ".")
}

/// Installs a folder's packages if its lock file changed since the last time.
fn packages(folder: &str) -> Result<()> {
    let stamp = Path::new(folder).join("node_modules/.installed-for");
    let lock = || std::fs::read(Path::new(folder).join("package-lock.json"));
    if std::fs::read(&stamp).ok() == lock().ok() {
        return Ok(());
    }
    run("npm", &["ci", "--no-audit", "--no-fund", "--loglevel=error"], folder)?;
    std::fs::write(stamp, lock()?)?;
    Ok(())
}

/// The newest change below a file or folder.
fn newest(path: &Path) -> std::time::SystemTime {
    let own = path.metadata().and_then(|data| data.modified()).unwrap_or(std::time::UNIX_EPOCH);
    let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
    entries.map(|entry| newest(&entry.path())).fold(own, std::cmp::max)
}

/// Builds the front end if anything of it changed.
fn web() -> Result<()> {
    packages("web")?;
    let sources = ["web/src", "web/public", "web/index.html", "web/package-lock.json", "web/vite.config.ts"];
    let changed = sources.iter().map(|path| newest(Path::new(path))).max();
    let stamp = Path::new("web/node_modules/.built");
    if Path::new("web/dist/assets").exists()
        && changed < stamp.metadata().and_then(|data| data.modified()).ok()
    {
        return Ok(());
    }
    run("npx", &["vite", "build", "--logLevel", "warn"], "web")?;
    std::fs::write(stamp, "")?;
    Ok(())
}

fn demo(rest: &[String]) -> Result<()> {
    web()?;
    cargo(&["build"])?;
    let mut arguments = vec!["serve", "--demo"];
    arguments.extend(rest.iter().map(String::as_str));
    let status = Command::new("target/debug/bright-ripple").args(arguments).status()?;
    std::process::exit(status.code().unwrap_or(1));
}

fn types() -> Result<()> {
    // The whole workspace, so that its build is shared.
    cargo(&["build", "--quiet", "--workspace"])?;
    let description = Command::new("target/debug/bright-ripple").arg("openapi").output()?.stdout;
    std::fs::write("web/src/api/openapi.json", description)?;
    packages("web")?;
    run("npm", &["run", "--silent", "types"], "web")
}

fn bench() -> Result<()> {
    // The whole workspace, so that its build is shared.
    let benches = [
        "rays",
        "surfaces",
        "liquid_surface",
        "frames",
        "forces",
        "particles",
        "liquid",
        "liquid_bakes",
        "pressure",
        "cloth",
        "studio",
    ];
    for bench in benches {
        cargo(&["test", "--workspace", "--features", "geometry/comparison", "--bench", bench])?;
    }
    web()?;
    cargo(&["build"])?;
    browser()?;
    run("node", &["bench.mjs"], "e2e")
}

/// Installs Debian's Chromium where it is missing and this user may.
fn browser() -> Result<()> {
    if Path::new("/usr/bin/chromium").exists() {
        return packages("e2e");
    }
    println!("· Chromium is missing; installing Debian's");
    let install = "apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq chromium";
    if run("sh", &["-c", install], ".").is_err() || !Path::new("/usr/bin/chromium").exists() {
        bail!("the browser tests need Chromium at /usr/bin/chromium: run `apt-get install chromium` as root");
    }
    packages("e2e")
}

/// Installs the libraries of file formats that tests compare with, into `target/python`.
fn libraries() -> Result<()> {
    let list = std::fs::read_to_string("crates/interchange/tests/libraries/requirements.txt")?;
    let done = Path::new("target/python/installed");
    if std::fs::read_to_string(done).is_ok_and(|installed| installed == list) {
        return Ok(());
    }
    println!("· installing the libraries of file formats");
    if run("python3", &["-m", "pip", "--version"], ".").is_err() {
        let install =
            "apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq python3-pip";
        if run("sh", &["-c", install], ".").is_err() {
            bail!("tests of file formats need pip: run `apt-get install python3-pip` as root");
        }
    }
    let file = "crates/interchange/tests/libraries/requirements.txt";
    let options = ["--quiet", "--disable-pip-version-check", "--upgrade", "--target", "target/python"];
    let arguments = [&["-m", "pip", "install"], &options[..], &["-r", file]].concat();
    run("python3", &arguments, ".")?;
    Ok(std::fs::write(done, list)?)
}

fn test() -> Result<()> {
    cargo(&["fmt", "--all", "--check"])?;
    // Chromium and the libraries of file formats are fetched during the build.
    let fetching = std::thread::spawn(|| libraries().and_then(|()| browser()));
    web()?;
    // One build for the application and its tests: without the tests' dependencies, a third of the
    // packages would have other features and be built twice.
    cargo(&["test", "--workspace", "--no-run"])?;
    cargo(&["clippy", "--workspace", "--all-targets", "--", "-D", "warnings"])?;
    fetching.join().expect("fetching does not panic")?;
    cargo(&["test", "--workspace"])?;
    let description = Command::new("target/debug/bright-ripple").arg("openapi").output()?.stdout;
    if description != std::fs::read("web/src/api/openapi.json")? {
        bail!("web/src/api/openapi.json is not what the server describes: run `cargo xtask types`");
    }
    run("node", &["parameters.mjs", "--check"], "web")?;
    run("npm", &["run", "--silent", "check"], "web")?;
    run("npm", &["run", "--silent", "lint"], "web")?;
    run("npm", &["run", "--silent", "test"], "web")?;
    run("npx", &["playwright", "test"], "e2e")
}
