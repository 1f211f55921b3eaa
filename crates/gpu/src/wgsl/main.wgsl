// Every pixel drawn by one invocation, and verified by another one, as often as the frame is heavy.

@compute @workgroup_size(8, 8)
fn draw(@builtin(global_invocation_id) id: vec3<u32>) {
    if id.x >= params.width || id.y >= params.height {
        return;
    }
    let at = place(id.x, id.y);
    pixels[id.y * params.width + id.x] = pack(picture(at.x, at.y));
}

@compute @workgroup_size(8, 8)
fn verify(@builtin(global_invocation_id) id: vec3<u32>) {
    if id.x >= params.width || id.y >= params.height {
        return;
    }
    // Turned round, so that a pixel is verified elsewhere on the chip than where it was drawn.
    let column = params.width - 1u - id.x;
    let row = params.height - 1u - id.y;
    let drawn = pixels[row * params.width + column];
    let at = place(column, row);
    var wrong = 0u;
    for (var round = 0; round < i32(params.rounds); round++) {
        let moved = round * params.zero;
        wrong += select(0u, 1u, pack(picture(at.x + moved, at.y + moved)) != drawn);
    }
    if wrong > 0u {
        // A pixel that was verified wrongly counts as one that was drawn wrongly: the card is not to be relied on.
        atomicAdd(&counts[0], 1u);
    }
}

// The raster path: squares of a few pixels in two layers. The nearer one has the picture, the farther one its opposite.
const SQUARE: u32 = 4u;

struct Corner {
    @builtin(position) position: vec4<f32>,
    @location(0) @interpolate(flat) opposite: u32,
}

@vertex
fn corner(@builtin(vertex_index) index: u32) -> Corner {
    let across = (params.width + SQUARE - 1u) / SQUARE;
    let down = (params.height + SQUARE - 1u) / SQUARE;
    let layer = index / (6u * across * down);
    let square = index / 6u % (across * down);
    var corners = array<vec2<u32>, 6>(
        vec2(0u, 0u), vec2(1u, 0u), vec2(0u, 1u), vec2(1u, 0u), vec2(1u, 1u), vec2(0u, 1u),
    );
    let at = (vec2(square % across, square / across) + corners[index % 6u]) * SQUARE;
    // Edges lie between pixels, half a pixel away from every centre: no rounding decides what is covered.
    let x = f32(at.x) / f32(params.width) * 2.0 - 1.0;
    let y = 1.0 - f32(at.y) / f32(params.height) * 2.0;
    let depth = select(0.25, 0.75, layer == 0u);
    return Corner(vec4(x, y, depth, 1.0), select(0u, 0x00ffffffu, layer == 0u));
}

@fragment
fn shade(input: Corner) -> @location(0) u32 {
    let at = place(u32(input.position.x), u32(input.position.y));
    return pack(picture(at.x, at.y)) ^ input.opposite;
}
