// What a shader is told of a frame.
struct Params {
    // Of the frame, in pixels.
    width: u32,
    height: u32,
    // Which frame of the pass.
    number: i32,
    // Whether the frame asks for everything.
    gust: u32,
    // How often every pixel is worked out again and compared.
    rounds: u32,
    // Always 0, which the compiler cannot know: so no round is left out.
    zero: i32,
    // Salt of the memory's pattern, and number of its words.
    salt: u32,
    words: u32,
}

@group(0) @binding(0) var<uniform> params: Params;

