//! The world's clock, which a time scale slows down.

use super::Sampler;

impl Sampler {
    pub(super) fn set_clock(&mut self) {
        const PARTS: u32 = 16;
        let timing = self.base.timing;
        let scaled = self.shot_moves();
        let mut now = self.base.clone();
        let mut world = 0.0;
        for frame in timing.frames() {
            self.world.push(world);
            let speed = if scaled {
                let mut sum = 0.0;
                for part in 0..PARTS {
                    let at = f64::from(frame) + (f64::from(part) + 0.5) / f64::from(PARTS);
                    // A formula that fails here fails again, and is told, when the frame is computed.
                    if self.apply(&mut now, at).is_ok() {
                        sum += f64::from(now.physics.time_scale);
                    }
                }
                sum / f64::from(PARTS)
            } else {
                f64::from(self.base.physics.time_scale)
            };
            self.speeds.push(speed);
            world += speed;
        }
    }

    /// Mean time scale from a frame of the shot to the next.
    pub fn speed(&self, frame: u32) -> f64 {
        let index = frame.saturating_sub(self.base.timing.first) as usize;
        self.speeds.get(index).or(self.speeds.last()).copied().unwrap_or(1.0)
    }

    /// The frame that the world's clock shows at a frame of the shot: the same
    /// as long as the time scale is 1.
    pub fn world_frame(&self, frame: f64) -> f64 {
        let first = f64::from(self.base.timing.first);
        let since = (frame - first).max(0.0);
        let index = (since.floor() as usize).min(self.world.len().saturating_sub(1));
        let world = self.world.get(index).copied().unwrap_or(0.0);
        first + world + (since - index as f64) * self.speeds.get(index).copied().unwrap_or(1.0)
    }

    /// The frame at which what acts on the world is read, when the shot is at `frame`.
    pub fn acting_frame(&self, frame: f64) -> f64 {
        if self.base.physics.keys_follow { self.world_frame(frame) } else { frame }
    }
}
