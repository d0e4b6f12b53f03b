use simulate::Simulation;
#[test]
fn dbg() {
    let dir = tempfile::tempdir().unwrap();
    studio::demo::write("Scale shower", dir.path()).unwrap();
    let shot = shot::read(&std::fs::read(dir.path().join("shot.json")).unwrap()).unwrap();
    let meshes = studio::assets::Loader::default().meshes(dir.path(), &shot).unwrap();
    let mut whole = Simulation::new(&shot, &meshes).unwrap();
    while whole.frame() < 60 {
        let s = whole.save();
        let mut r = Simulation::restored(&shot, &meshes, &s).unwrap();
        let s2 = r.save();
        let a = whole.advance().unwrap();
        let b = r.advance().unwrap();
        if a != b {
            println!("FRAME {} resaved same {}", a.number, s == s2);
            for (id, x) in &a.bodies {
                let y = &b.bodies[id];
                let n = (0..x.len())
                    .filter(|&i| {
                        x.places[i] != y.places[i]
                            || x.turns[i] != y.turns[i]
                            || x.velocities[i] != y.velocities[i]
                    })
                    .collect::<Vec<_>>();
                if !n.is_empty() {
                    println!(
                        "  body {id:?} {} of {} first {:?} {} {} v {} {}",
                        n.len(),
                        x.len(),
                        n[0],
                        x.places[n[0]],
                        y.places[n[0]],
                        x.velocities[n[0]],
                        y.velocities[n[0]]
                    );
                }
            }
            for (id, x) in &a.particles {
                let y = b.particles_of(*id);
                if x != y {
                    println!("  part {id:?} {} {}", x.len(), y.len());
                }
            }
            if a.measured != b.measured {
                println!("  m {:?} {:?}", a.measured, b.measured);
            }
        }
    }
}
