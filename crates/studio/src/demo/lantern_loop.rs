//! *Lantern loop*: the lanterns of *Lantern parade* go round without a seam.

use super::{File, lantern_parade};
use shot::{
    Element, ElementKind, Shot,
    finish::{Finish, FinishOperation},
};

pub(super) fn shot() -> (Shot, Vec<File>) {
    let (mut shot, files) = lantern_parade::shot();
    shot.name = "Lantern loop".to_owned();
    shot.about = "A loop of exactly 120 frames, blended out of a run of 144.".to_owned();
    let round = FinishOperation::Loop { frames: 120, from_frame: 25, overlap: 24, first_stands: false };
    shot.add(Element::new("Loop", ElementKind::Finish(Finish::new(round))));
    (shot, files)
}
