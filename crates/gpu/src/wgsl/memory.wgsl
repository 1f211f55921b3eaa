// Patterns over the memory: written in one frame and verified in a later one.

@group(0) @binding(1) var<storage, read_write> words: array<u32>;
@group(0) @binding(2) var<storage, read_write> counts: array<atomic<u32>, 4>;

fn pattern(index: u32, salt: u32) -> u32 {
    var h = (index * 0x9e3779b1u) ^ (salt * 0xc2b2ae3du);
    h ^= h >> 15u;
    h *= 0x2c1b3c6du;
    return h ^ (h >> 12u);
}

// Verifies what was written with the last salt and writes the next one over it. Salt 0 was never written.
@compute @workgroup_size(256)
fn turn_over(@builtin(global_invocation_id) id: vec3<u32>, @builtin(num_workgroups) groups: vec3<u32>) {
    let step = groups.x * 256u;
    for (var index = id.x; index < params.words; index += step) {
        if params.salt > 1u && words[index] != pattern(index, params.salt - 1u) {
            atomicAdd(&counts[1], 1u);
        }
        words[index] = pattern(index, params.salt);
    }
}
