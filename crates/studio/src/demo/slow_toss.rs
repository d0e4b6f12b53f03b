//! *Slow toss*: a float is thrown into a basket, slowed where it hangs in the
//! air; beside it another one, thrown alike, goes the whole way back.

use super::{File, float_toss, quay};
use shot::{
    Element, ElementKind, Shot,
    finish::{Finish, FinishOperation},
    motion::Interpolation,
};

const RUN_FRAME: &str = "kind.finish.operation.retime.run_frame";

pub(super) fn shot() -> (Shot, Vec<File>) {
    let (mut shot, files) = float_toss::shot();
    shot.name = "Slow toss".to_owned();
    shot.about = "Finished after it is computed: one throw slowed at its height, one sent back.".to_owned();
    shot.channels.clear();
    shot.timing.last = 48;
    for (name, beside) in [("Basket", "Basket behind"), ("Float", "Float behind")] {
        let mut element = shot.named(name).expect("it is in the shot").clone();
        beside.clone_into(&mut element.name);
        element.placement.position_m.z -= 1.1;
        if let Some(solid) = element.as_solid_mut() {
            let [r, g, b] = solid.look.albedo.to_array();
            solid.look.albedo = [b, r, g].into();
        }
        shot.add(element);
    }
    let back = shot.named("Float behind").expect("it was added").id;
    let flight = FinishOperation::Trim { from_frame: 1, to_frame: 26 };
    let steps = [
        ("Flight behind", Some(back), flight.clone()),
        ("Send it back", Some(back), FinishOperation::Reverse {}),
        ("Flight", None, flight),
    ];
    for (order, (name, element, operation)) in steps.into_iter().enumerate() {
        let finish = Finish { element, order: order as u32, ..Finish::new(operation) };
        shot.add(Element::new(name, ElementKind::Finish(finish)));
    }

    // The frames around the height at an eighth of the speed, with a soft turn into it and out of it.
    let mut slow = quay::keys([(1.0, 1.0), (8.0, 8.0), (56.0, 14.0), (68.0, 26.0)]);
    slow.keys[0].interpolation = Interpolation::Linear;
    slow.keys[1].interpolation = Interpolation::Smooth;
    let retime = FinishOperation::Retime { frames: 68, run_frame: 1.0 };
    let retime = Finish { order: 3, ..Finish::new(retime) };
    shot.add(Element::new("Slow at its height", ElementKind::Finish(retime)).keyed(RUN_FRAME, slow));
    (shot, files)
}
