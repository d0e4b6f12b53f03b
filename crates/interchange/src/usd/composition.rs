//! Prims with all that is said of them: in their own layer, in variants, and in
//! what they refer to within the file.

use super::layer::Layer;
use super::value::{Arc, UsdValue};
use glam::DQuat;
use std::collections::BTreeSet;
use std::io::{Cursor, Read};

/// Most prims of a stage with all uses of references, and how deep they may be nested.
const MAX_PRIMS: usize = 100_000;
const MAX_DEPTH: usize = 200;
/// Most places where something is said of one prim.
const MAX_SITES: usize = 1_000;
/// Most layers of a package, and their bytes together.
const MAX_LAYERS: usize = 256;
const MAX_PACKAGE: u64 = 512 << 20;

/// A place where something is said of a prim.
#[derive(Clone, Debug, PartialEq)]
struct Site {
    layer: usize,
    path: String,
}

/// A prim, with the places where something is said of it, the strongest first.
#[derive(Clone, Debug)]
pub(super) struct Prim {
    /// Its path in the stage.
    pub path: String,
    sites: Vec<Site>,
}

impl Prim {
    /// The last part of its path.
    pub fn name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or_default()
    }
}

/// A layer, the path of an attribute in it, and the times of its samples.
type Valued<'a> = (&'a Layer, String, Vec<f64>);

/// How a value between two samples is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Between {
    /// It is that of the sample before.
    Hold,
    /// By a straight line.
    Line,
    /// As a turn.
    Turn,
}

/// The layers of a stage; the first is the strongest.
pub(super) struct Stage {
    layers: Vec<Layer>,
    /// Names of the layers within their package.
    names: Vec<String>,
    package: Option<zip::ZipArchive<Cursor<Vec<u8>>>>,
    /// Bytes that may still be unpacked.
    left: u64,
    /// Number of layers that count everywhere: the first with its sublayers.
    roots: usize,
}

/// Path of a child.
fn child_path(path: &str, name: &str) -> String {
    if path.ends_with(['/', '}']) { format!("{path}{name}") } else { format!("{path}/{name}") }
}

impl Stage {
    /// Opens a layer, or a package of layers.
    ///
    /// # Errors
    /// A sentence on what is wrong with the file.
    pub fn open(bytes: Vec<u8>) -> Result<Self, String> {
        let mut stage =
            Self { layers: Vec::new(), names: Vec::new(), package: None, left: MAX_PACKAGE, roots: 1 };
        if bytes.starts_with(b"PK") {
            let package = zip::ZipArchive::new(Cursor::new(bytes))
                .map_err(|error| format!("is no package: {error}"))?;
            let is_layer = |name: &&str| [".usda", ".usdc", ".usd"].iter().any(|end| name.ends_with(end));
            let first =
                (0..package.len().min(10_000)).find_map(|i| package.name_for_index(i).filter(is_layer));
            let first = first.ok_or("is a package without a layer")?.to_owned();
            stage.package = Some(package);
            stage.packaged(&first)?;
        } else {
            stage.layers.push(Layer::read(bytes)?);
            stage.names.push(String::new());
        }
        // Sublayers are weaker than what names them.
        let mut next = 0;
        while next < stage.layers.len() {
            let list = stage.layers[next].field("/", "subLayers")?.and_then(UsdValue::tokens);
            for asset in list.unwrap_or_default() {
                stage.layer_of(&asset, next)?;
            }
            next += 1;
        }
        stage.roots = stage.layers.len();
        Ok(stage)
    }

    /// Reads a layer of the package.
    fn packaged(&mut self, name: &str) -> Result<usize, String> {
        if let Some(known) = self.names.iter().position(|known| known == name) {
            return Ok(known);
        }
        if self.layers.len() == MAX_LAYERS {
            return Err(format!("has more than {MAX_LAYERS} layers"));
        }
        let package = self.package.as_mut().ok_or_else(|| external(name))?;
        let entry = package.by_name(name).map_err(|_| external(name))?;
        let mut bytes = Vec::new();
        entry.take(self.left + 1).read_to_end(&mut bytes).map_err(|error| format!("{name}: {error}"))?;
        self.left = (self.left.checked_sub(bytes.len() as u64))
            .ok_or_else(|| format!("unpacks to more than {} MB", MAX_PACKAGE >> 20))?;
        self.layers.push(Layer::read(bytes).map_err(|message| format!("{name}: {message}"))?);
        self.names.push(name.to_owned());
        Ok(self.layers.len() - 1)
    }

    /// The layer that an asset path of another layer names: one of the same package.
    fn layer_of(&mut self, asset: &str, from: usize) -> Result<usize, String> {
        if asset.is_empty() {
            return Ok(from);
        }
        if self.package.is_none() || asset.contains(['\\', ':', '[']) || asset.starts_with('/') {
            return Err(external(asset));
        }
        // Relative to the folder of the layer that names it.
        let folder = self.names[from].rsplit_once('/').map_or("", |(folder, _)| folder);
        let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
        for part in asset.split('/') {
            match part {
                "" | "." => {}
                ".." => {
                    parts.pop().ok_or_else(|| external(asset))?;
                }
                part => parts.push(part),
            }
        }
        self.packaged(&parts.join("/"))
    }

    /// A field of the stage as a whole.
    pub fn metadata(&self, field: &str) -> Option<UsdValue> {
        self.layers[..self.roots].iter().find_map(|layer| layer.field("/", field).ok().flatten())
    }

    /// The prim that holds all.
    pub fn root(&self) -> Prim {
        let sites = (0..self.roots).map(|layer| Site { layer, path: "/".to_owned() }).collect();
        Prim { path: String::new(), sites }
    }

    /// The children of a prim.
    ///
    /// # Errors
    /// A sentence on references that lead out of the file or in a circle.
    pub fn children(&mut self, prim: &Prim) -> Result<Vec<Prim>, String> {
        let mut names: Vec<String> = Vec::new();
        let mut known = BTreeSet::new();
        for site in &prim.sites {
            let list = self.layers[site.layer].field(&site.path, "primChildren")?.and_then(UsdValue::tokens);
            for name in list.unwrap_or_default() {
                if known.insert(name.clone()) {
                    names.push(name);
                }
            }
        }
        if names.len() > MAX_PRIMS {
            return Err(format!("has more than {MAX_PRIMS} prims"));
        }
        names.into_iter().map(|name| self.child(prim, &name)).collect()
    }

    fn child(&mut self, prim: &Prim, name: &str) -> Result<Prim, String> {
        let mut sites = Vec::new();
        for site in &prim.sites {
            let path = child_path(&site.path, name);
            if self.layers[site.layer].has(&path) {
                let mut above = Vec::new();
                let site = Site { layer: site.layer, path };
                self.expand(&site, &mut Vec::new(), &mut above, &mut sites)?;
            }
        }
        Ok(Prim { path: format!("{}/{name}", prim.path), sites })
    }

    /// Adds a site with all that it refers to. `chosen` are variants that stronger
    /// sites choose, `above` the sites that led here.
    fn expand(
        &mut self,
        site: &Site,
        chosen: &mut Vec<(String, String)>,
        above: &mut Vec<Site>,
        sites: &mut Vec<Site>,
    ) -> Result<(), String> {
        if above.contains(site) || above.len() > MAX_DEPTH {
            return Err(format!("{} refers to itself, in a circle", site.path));
        }
        if sites.len() > MAX_SITES {
            return Err(format!("{} refers to more than {MAX_SITES} prims", site.path));
        }
        sites.push(site.clone());
        above.push(site.clone());
        let field = |stage: &Self, name: &str| stage.layers[site.layer].field(&site.path, name);
        if let Some(UsdValue::Selections(list)) = field(self, "variantSelection")? {
            list.into_iter()
                .filter(|(set, _)| !chosen.iter().any(|(known, _)| known == set))
                .collect::<Vec<_>>()
                .into_iter()
                .for_each(|pair| chosen.push(pair));
        }
        if let Some(UsdValue::Paths(list)) = field(self, "inheritPaths")? {
            for path in list {
                self.follow(Site { layer: site.layer, path }, chosen, above, sites)?;
            }
        }
        for set in field(self, "variantSetNames")?.and_then(UsdValue::tokens).unwrap_or_default() {
            if let Some((_, variant)) = chosen.iter().find(|(known, _)| *known == set) {
                let path = format!("{}{{{set}={variant}}}", site.path);
                self.follow(Site { layer: site.layer, path }, chosen, above, sites)?;
            }
        }
        for name in ["references", "payload"] {
            let Some(UsdValue::Arcs(arcs)) = field(self, name)? else { continue };
            for Arc { asset, path } in arcs {
                let layer = self.layer_of(&asset, site.layer)?;
                let path = match path.is_empty() {
                    false => path,
                    true => {
                        let default =
                            self.layers[layer].field("/", "defaultPrim")?.and_then(UsdValue::tokens);
                        let default = default.and_then(|list| list.into_iter().next());
                        let default = default.ok_or_else(|| {
                            format!("{} refers to a layer without a default prim", site.path)
                        })?;
                        format!("/{}", default.trim_start_matches('/'))
                    }
                };
                self.follow(Site { layer, path }, chosen, above, sites)?;
            }
        }
        above.pop();
        Ok(())
    }

    /// As [`Self::expand`], of a site that may not be there.
    fn follow(
        &mut self,
        site: Site,
        chosen: &mut Vec<(String, String)>,
        above: &mut Vec<Site>,
        sites: &mut Vec<Site>,
    ) -> Result<(), String> {
        if self.layers[site.layer].has(&site.path) {
            self.expand(&site, chosen, above, sites)
        } else {
            Ok(())
        }
    }

    /// A field of a prim.
    ///
    /// # Errors
    /// A sentence on what is wrong with it.
    pub fn field(&self, prim: &Prim, name: &str) -> Result<Option<UsdValue>, String> {
        for site in &prim.sites {
            if let Some(value) = self.layers[site.layer].field(&site.path, name)? {
                return Ok(Some(value));
            }
        }
        Ok(None)
    }

    /// Whether a prim is defined, and not as a class: an `over` says nothing of that.
    pub fn is_defined(&self, prim: &Prim) -> bool {
        let specifiers = prim.sites.iter().filter_map(|site| {
            let value = self.layers[site.layer].field(&site.path, "specifier").ok()??;
            value.numbers()?.first().copied()
        });
        // 0 is `def`, 1 is `over`, 2 is `class`.
        specifiers.into_iter().find(|of| *of != 1.0) == Some(0.0)
    }

    /// The layer and the path where an attribute has a value, or samples.
    fn valued(&self, prim: &Prim, attribute: &str) -> Result<Option<Valued<'_>>, String> {
        for site in &prim.sites {
            let (layer, path) = (&self.layers[site.layer], format!("{}.{attribute}", site.path));
            if !layer.has(&path) {
                continue;
            }
            let times = layer.times(&path)?;
            if !times.is_empty() || layer.field(&path, "default")?.is_some() {
                return Ok(Some((layer, path, times)));
            }
        }
        Ok(None)
    }

    /// The times at which an attribute has samples.
    ///
    /// # Errors
    /// A sentence on what is wrong with them.
    pub fn times(&self, prim: &Prim, attribute: &str) -> Result<Vec<f64>, String> {
        Ok(self.valued(prim, attribute)?.map(|(.., times)| times).unwrap_or_default())
    }

    /// A field of an attribute, such as `interpolation`.
    pub fn attribute_field(&self, prim: &Prim, attribute: &str, field: &str) -> Option<UsdValue> {
        prim.sites.iter().find_map(|site| {
            self.layers[site.layer].field(&format!("{}.{attribute}", site.path), field).ok().flatten()
        })
    }

    /// The value of an attribute at a time.
    ///
    /// # Errors
    /// A sentence on what is wrong with it.
    pub fn value(
        &self,
        prim: &Prim,
        attribute: &str,
        time: f64,
        between: Between,
    ) -> Result<Option<UsdValue>, String> {
        let Some((layer, path, times)) = self.valued(prim, attribute)? else { return Ok(None) };
        if times.is_empty() {
            return layer.field(&path, "default");
        }
        let after = times.partition_point(|at| *at <= time);
        let from = after.saturating_sub(1);
        let value = layer.sample(&path, from)?;
        if between == Between::Hold || after == 0 || after == times.len() || times[from] == time {
            return Ok(value);
        }
        let (Some(UsdValue::Numbers { width, values: a }), Some(UsdValue::Numbers { values: b, .. })) =
            (&value, &layer.sample(&path, after)?)
        else {
            return Ok(value);
        };
        if a.len() != b.len() {
            return Ok(value);
        }
        let t = (time - times[from]) / (times[after] - times[from]);
        let values = if between == Between::Turn && *width == 4 {
            let turn = |q: &[f64]| DQuat::from_xyzw(q[1], q[2], q[3], q[0]).normalize();
            let pairs = a.chunks_exact(4).zip(b.chunks_exact(4));
            pairs
                .flat_map(|(a, b)| {
                    let q = turn(a).slerp(turn(b), t);
                    [q.w, q.x, q.y, q.z]
                })
                .collect()
        } else {
            a.iter().zip(b).map(|(a, b)| a + (b - a) * t).collect()
        };
        Ok(Some(UsdValue::Numbers { width: *width, values }))
    }

    /// Prims that a relation names, in the layer where it is said.
    ///
    /// # Errors
    /// A sentence on references that lead out of the file or in a circle.
    pub fn targets(&mut self, prim: &Prim, relation: &str) -> Result<Vec<Prim>, String> {
        for site in prim.sites.clone() {
            let path = format!("{}.{relation}", site.path);
            let Some(UsdValue::Paths(list)) = self.layers[site.layer].field(&path, "targetPaths")? else {
                continue;
            };
            if list.len() > MAX_PRIMS {
                return Err(format!("{path} names more than {MAX_PRIMS} prims"));
            }
            let mut prims = Vec::new();
            for path in list {
                let mut sites = Vec::new();
                self.follow(
                    Site { layer: site.layer, path: path.clone() },
                    &mut Vec::new(),
                    &mut Vec::new(),
                    &mut sites,
                )?;
                // A target of the stage may be said in a weaker layer.
                for layer in 0..self.roots {
                    let site = Site { layer, path: path.clone() };
                    if sites.is_empty() {
                        self.follow(site, &mut Vec::new(), &mut Vec::new(), &mut sites)?;
                    }
                }
                prims.push(Prim { path, sites });
            }
            return Ok(prims);
        }
        Ok(Vec::new())
    }
}

fn external(asset: &str) -> String {
    let name: String = asset.chars().take(120).collect();
    format!(
        "refers to another file, @{name}@; bring in one file that holds all, such as a flattened one or a usdz package"
    )
}
