//! The models that an element is rendered from.

use crate::assets::{Assets, Model, SceneError};
use crate::presence::parts_of;
use frames::{Frame, MeshState, OPACITY};
use geometry::{Bvh, MissingMesh};
use glam::Vec3;
use shot::{Element, Id, Shape, UvLayout};
use std::collections::BTreeMap;
use std::sync::Arc;

/// The models of an element, each with its opacity as of [`OPACITY`].
pub(crate) type Models = Vec<(Arc<Model>, f32)>;

/// The mesh of a solid: as the frame has it, or its rest shape.
pub(crate) fn models_of(
    element: &Element,
    solid: Id,
    (shape, uvs): (&Shape, UvLayout),
    assets: &Assets,
    frame: Option<&Frame>,
) -> Result<Models, SceneError> {
    match frame.and_then(|frame| frame.meshes.get(&solid)) {
        Some(deformed) => Ok(models_of_frame(deformed, &[])),
        None => {
            let model = assets.model(shape, uvs).map_err(|error: MissingMesh| SceneError::MissingAsset {
                element: element.name.clone(),
                asset: error.0,
            });
            Ok(vec![(model?, 1.0)])
        }
    }
}

/// The models of a mesh in a frame: one, or one for each of its opacities; with factors of the albedo by vertex.
pub(crate) fn models_of_frame(deformed: &MeshState, colours: &[Vec3]) -> Models {
    let values: BTreeMap<String, Vec<f32>> = deformed
        .attributes
        .iter()
        .filter_map(|of| Some((of.name.clone(), deformed.scalars(&of.name)?.to_vec())))
        .collect();
    let model = |(mesh, opacity): (geometry::Mesh, f32)| {
        let bvh = Bvh::build(&mesh.positions, &mesh.triangles);
        (Arc::new(Model { mesh, bvh, values: values.clone(), colours: colours.to_vec() }), opacity)
    };
    parts_of(deformed.mesh(), deformed.scalars(OPACITY)).into_iter().map(model).collect()
}
