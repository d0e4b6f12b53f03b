//! How much memory a JSON text takes, told before it is parsed.

/// Most bytes that the parsed values of a text from outside may take.
pub const MAX_JSON_MEMORY: usize = 280 << 20;

/// Memory that a JSON text takes once it is parsed without a schema, bytes. An
/// upper bound but for allocator overhead: a short text of many small objects
/// takes eighty times its length.
pub fn json_memory(text: &[u8]) -> usize {
    let of = |byte: &u8| match byte {
        // A node of a B-tree, for up to eleven members.
        b'{' => 700,
        b'[' | b',' => 100,
        _ => 1,
    };
    text.iter().map(of).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn small_objects_weigh_more_than_text() {
        let objects = r#"{"a":0},"#.repeat(1_000);
        assert!(json_memory(objects.as_bytes()) > 80 * objects.len());
        assert_eq!(json_memory(&[b'x'; 1_000]), 1_000);
    }

    #[test]
    fn a_shot_of_many_small_objects_is_refused_before_it_is_parsed() {
        let text = format!(r#"{{"version":4,"elements":[{}0]}}"#, r#"{"a":0},"#.repeat(1_000_000));
        let error = crate::read(text.as_bytes()).unwrap_err().to_string();
        assert!(error.contains("values would take"), "{error}");
    }
}
