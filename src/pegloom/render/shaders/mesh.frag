#version 330 core
in vec3 normal;
in vec3 place;
in vec2 uv;
in float hollow;
in vec4 lens;
uniform vec3 eye;
uniform vec3 right;
uniform vec3 up;
uniform vec3 base_colour;
uniform float alpha;
uniform int textured;    // 0 clay, 1 its material
uniform int lens_mode;   // 0 none, 1 one influence as a ramp, 2 colours
uniform float metallic;
uniform float roughness;
uniform float bumps;     // strength of the normal texture, 0 for none
uniform int metal_known; // whether metal tells metallic (blue) and roughness (green)
uniform float shaded;    // strength of the occlusion texture, 0 for none
uniform vec3 glow;       // emissive colour
uniform vec3 ramp[5];
uniform sampler2D picture;
uniform sampler2D relief;
uniform sampler2D metal;
uniform sampler2D hidden_light;
uniform sampler2D lit_by_itself;
out vec4 colour;

vec3 ramp_at(float w) {
    float x = clamp(w, 0.0, 1.0) * 4.0;
    int i = int(min(floor(x), 3.0));
    return mix(ramp[i], ramp[i + 1], x - float(i));
}

// The room a polished thing mirrors: a soft sky over a dark floor, with the key light's window in it.
vec3 room(vec3 way, vec3 key_way, float rough) {
    float over = smoothstep(-0.5 - rough, 0.5 + rough, way.y);
    vec3 air = mix(vec3(0.10, 0.11, 0.14), vec3(0.62, 0.66, 0.74), over);
    float window = smoothstep(0.86 - 0.5 * rough, 0.97, dot(way, key_way));
    return air + (1.0 - 0.7 * rough) * window * vec3(0.9, 0.87, 0.8);
}

void main() {
    vec3 n = normalize(normal);
    vec3 to_eye = normalize(eye - place);
    bool back = !gl_FrontFacing;
    if (dot(n, to_eye) < 0.0) n = -n;
    if (textured == 1 && bumps > 0.0) {
        // The texture's own directions from how place and uv change across the picture.
        vec3 px = dFdx(place), py = dFdy(place);
        vec2 ux = dFdx(uv), uy = dFdy(uv);
        vec3 along = px * uy.y - py * ux.y, across = py * ux.x - px * uy.x;
        float size = inversesqrt(max(max(dot(along, along), dot(across, across)), 1e-20));
        vec3 r = texture(relief, uv).xyz * 2.0 - 1.0;
        float turned = ux.x * uy.y - ux.y * uy.x < 0.0 ? -1.0 : 1.0;
        n = normalize(n * max(r.z, 0.1) + turned * bumps * size * (along * r.x + across * r.y));
    }
    // Studio light that turns with the camera: a soft key from upper left, a cool fill, the sky, and a rim.
    vec3 key_way = normalize(to_eye + up * 0.9 - right * 0.75);
    vec3 fill_way = normalize(to_eye * 0.4 + right * 1.0 - up * 0.1);
    float key = max((dot(n, key_way) + 0.22) / 1.22, 0.0);
    key *= key;
    float fill = max(dot(n, fill_way), 0.0);
    float sky = 0.5 + 0.5 * n.y;
    float facing = max(dot(n, to_eye), 0.0);
    float rim = pow(1.0 - facing, 3.0);
    vec3 base = base_colour;
    float metal_here = 0.0, rough = 0.72;
    if (textured == 1) {
        base *= texture(picture, uv).rgb;
        metal_here = metallic;
        rough = roughness;
        if (metal_known == 1) {
            vec3 m = texture(metal, uv).rgb;
            metal_here *= m.b;
            rough *= m.g;
        }
        rough = clamp(rough, 0.06, 1.0);
    }
    vec3 light = vec3(0.27, 0.285, 0.325) * mix(0.66, 1.16, sky) + vec3(0.74, 0.70, 0.63) * key + vec3(0.13, 0.165, 0.235) * fill;
    // Creases gather shade, ridges catch light.
    float form = 1.0 - 0.42 * max(hollow, 0.0) + 0.16 * max(-hollow, 0.0);
    light *= mix(1.0, form, textured == 1 ? 0.45 : 1.0);
    if (textured == 1 && shaded > 0.0) light *= mix(1.0, texture(hidden_light, uv).r, shaded);
    if (lens_mode == 1) {
        float w = lens.x;
        vec3 shade = ramp_at(w);
        base = w < 0.002 ? base_colour * 0.62 : mix(base_colour * 0.62, shade, smoothstep(0.0, 0.06, w) * 0.96 + 0.04);
        light = mix(light, vec3(1.0), 0.25);
        float width = fwidth(w) + 1e-5;
        for (int k = 1; k < 4; k++) {
            float line = 1.0 - smoothstep(0.4, 1.3, abs(w - 0.25 * float(k)) / width);
            base = mix(base, vec3(0.95, 0.925, 0.88), line * 0.85 * step(width, 0.12));
        }
    } else if (lens_mode == 2) {
        base = lens.rgb;
        light = mix(light, vec3(1.0), 0.2);
    }
    if (lens_mode > 0) metal_here = 0.0;
    if (lens_mode > 0 && lens.w < 0.5) {
        // No weight from anything: hatched.
        float stripe = step(0.5, fract((gl_FragCoord.x + gl_FragCoord.y) / 9.0));
        base = mix(vec3(0.13, 0.15, 0.2), vec3(0.5, 0.42, 0.42), stripe);
    }
    vec3 lit = base * light * (1.0 - 0.85 * metal_here);
    vec3 half_way = normalize(key_way + to_eye);
    float sharp = 2.0 / (rough * rough * rough * rough + 0.004);
    float glint = min(sharp, 160.0) * 0.012 * pow(max(dot(n, half_way), 0.0), min(sharp, 400.0));
    vec3 mirrors = mix(vec3(0.04), base, metal_here);
    vec3 fresnel = mirrors + (1.0 - mirrors) * pow(1.0 - facing, 5.0) * (1.0 - rough);
    lit += fresnel * room(reflect(-to_eye, n), key_way, rough) * mix(0.55, 1.0, metal_here) * form;
    lit += mix(vec3(0.9, 0.87, 0.82) * 0.30, base, metal_here) * glint * (1.0 - 0.6 * rough);
    lit += rim * vec3(0.15, 0.18, 0.25) * (1.0 - 0.5 * metal_here);
    if (back) lit *= 0.72;
    if (textured == 1 && lens_mode == 0) lit += glow * texture(lit_by_itself, uv).rgb;
    colour = vec4(lit, alpha);
}
