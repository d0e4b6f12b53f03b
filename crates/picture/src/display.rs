//! From scene-linear light to what a screen shows.
//!
//! The tone curve is the open Khronos PBR Neutral tone mapper (2024): it keeps
//! colours below 0.8 as they are and rolls off above. The Viewport applies the
//! same, so that it and a film agree.

/// Scene-linear colour, exposed by `stops`, to 0–1 display-linear.
pub fn tone(rgb: [f32; 3], stops: f32) -> [f32; 3] {
    const START: f32 = 0.8 - 0.04;
    const DESATURATION: f32 = 0.15;
    let gain = stops.exp2();
    let mut c = rgb.map(|v| (v * gain).max(0.0));
    let least = c[0].min(c[1]).min(c[2]);
    let offset = if least < 0.08 { least - 6.25 * least * least } else { 0.04 };
    c = c.map(|v| v - offset);
    let peak = c[0].max(c[1]).max(c[2]);
    if peak < START {
        return c;
    }
    let d = 1.0 - START;
    let new_peak = 1.0 - d * d / (peak + d - START);
    let mix = 1.0 - 1.0 / (DESATURATION * (peak - new_peak) + 1.0);
    c.map(|v| {
        let v = v * new_peak / peak;
        v + (new_peak - v) * mix
    })
}

/// Display-linear 0–1 to an sRGB code value (IEC 61966-2-1).
pub fn srgb(linear: f32) -> u8 {
    (code(linear) * 255.0 + 0.5) as u8
}

/// Display-linear 0–1 to an sRGB code value 0–1.
pub fn code(linear: f32) -> f32 {
    let v = linear.clamp(0.0, 1.0);
    if v <= 0.003_130_8 { 12.92 * v } else { 1.055 * v.powf(1.0 / 2.4) - 0.055 }
}

/// sRGB code value 0–1 to linear.
pub fn linear(encoded: f32) -> f32 {
    if encoded <= 0.040_45 { encoded / 12.92 } else { ((encoded + 0.055) / 1.055).powf(2.4) }
}

/// Scene-linear colour to sRGB code values.
pub fn show(rgb: [f32; 3], stops: f32) -> [u8; 3] {
    tone(rgb, stops).map(srgb)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mid_colours_keep_their_value() {
        let shown = tone([0.3, 0.3, 0.3], 0.0);
        assert!((shown[0] - 0.26).abs() < 1e-6);
    }

    #[test]
    fn brighter_never_shows_darker_and_nothing_exceeds_one() {
        let mut before = 0.0;
        for i in 0..1000 {
            let shown = tone([0.02 * i as f32; 3], 0.0)[0];
            assert!(shown >= before && shown <= 1.0);
            before = shown;
        }
    }

    #[test]
    fn every_code_value_survives_the_way_there_and_back() {
        for code in 0..=255u8 {
            assert_eq!(srgb(linear(f32::from(code) / 255.0)), code);
        }
    }
}
