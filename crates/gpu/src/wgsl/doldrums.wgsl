const HORIZON: i32 = 640;

// A colour, and whether there is a boat.
struct Boat {
    colour: vec3<i32>,
    is_there: bool,
}

fn boat(x: i32, y: i32) -> Boat {
    let dx = x - 736;
    let up = HORIZON + 60 - y;
    if up >= 0 && up < 70 && abs(dx) < 170 + up {
        let plank = up / 18 % 2 * 14;
        return Boat(vec3(104 + plank, 52 + plank, 40), true);
    }
    if up >= 70 && up < 520 && abs(dx) < 7 {
        return Boat(vec3(70, 52, 40), true);
    }
    if up >= 110 && up < 490 && dx > 10 && dx < (500 - up) * 5 / 8 {
        let fold = wave(dx * 3 + up / 2, 160) / 4;
        return Boat(vec3(196 + fold, 180 + fold, 152 + fold), true);
    }
    return Boat(vec3(0), false);
}

fn sky(x: i32, y: i32, number: i32) -> vec3<i32> {
    let depth = y * 256 / HORIZON;
    let ground = blend(vec3(84, 132, 158), vec3(236, 214, 176), depth);
    let dx = x - 1536;
    let dy = y - 256;
    let far = (dx * dx + dy * dy) / 256;
    if far < 36 {
        return vec3(255, 244, 206);
    }
    let haze = blend(ground, vec3(255, 236, 190), min(6000 / (far + 24), 200));
    let cloud = noise(x + wave(number, 480), y * 5, 128, 16, 2u);
    return blend(haze, vec3(250, 240, 224), clamp(cloud - 150, 0, 90));
}

fn sea(x: i32, y: i32, number: i32, heave: i32) -> vec3<i32> {
    let depth = y - HORIZON;
    let ground = blend(vec3(176, 182, 168), vec3(30, 84, 104), min(depth * 2, 256));
    let swell = wave(depth * 6000 / (depth + 120) + number * 4 + x / 8, 480);
    let water = lit(ground, 226 + swell / 8);
    let mirrored = boat(x + swell / 6 - 20, 2 * HORIZON - y + 20 - heave);
    if mirrored.is_there {
        return blend(water, mirrored.colour, 110);
    }
    let glitter = hash(u32(x / 40), u32(y / 12 + number / 8), 8u) & 0xffu;
    if abs(x - 1536) < 60 + depth / 3 && glitter > 180u {
        return blend(water, vec3(255, 244, 206), 170);
    }
    return water;
}

fn picture(x: i32, y: i32) -> vec3<i32> {
    let number = params.number;
    let heave = wave(number * 2, 480) / 12 - 10;
    let own = boat(x, y - heave);
    if own.is_there {
        return own.colour;
    }
    if y < HORIZON {
        return sky(x, y, number);
    }
    return sea(x, y, number, heave);
}
