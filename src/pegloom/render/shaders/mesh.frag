#version 330 core
in vec3 normal;
in vec3 place;
in vec2 uv;
in vec4 lens;
uniform vec3 eye;
uniform vec3 right;
uniform vec3 up;
uniform vec3 base_colour;
uniform float alpha;
uniform int textured;
uniform int lens_mode;   // 0 none, 1 one influence as a ramp, 2 colours
uniform float shine;
uniform vec3 ramp[5];
uniform sampler2D picture;
out vec4 colour;

vec3 ramp_at(float w) {
    float x = clamp(w, 0.0, 1.0) * 4.0;
    int i = int(min(floor(x), 3.0));
    return mix(ramp[i], ramp[i + 1], x - float(i));
}

void main() {
    vec3 n = normalize(normal);
    vec3 to_eye = normalize(eye - place);
    bool back = !gl_FrontFacing;
    if (dot(n, to_eye) < 0.0) n = -n;
    // Studio light that turns with the camera: a key from upper left, a soft fill, sky, and a rim.
    vec3 key_way = normalize(to_eye + up * 0.9 - right * 0.75);
    vec3 fill_way = normalize(to_eye * 0.4 + right * 1.0 - up * 0.1);
    float key = max(dot(n, key_way), 0.0);
    float fill = max(dot(n, fill_way), 0.0);
    float sky = 0.5 + 0.5 * n.y;
    float rim = pow(1.0 - max(dot(n, to_eye), 0.0), 3.0);
    vec3 base = base_colour;
    if (textured == 1) base *= texture(picture, uv).rgb;
    vec3 light = vec3(0.30, 0.31, 0.35) * mix(0.72, 1.12, sky) + vec3(0.66, 0.63, 0.58) * key + vec3(0.12, 0.15, 0.21) * fill;
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
    if (lens_mode > 0 && lens.w < 0.5) {
        // No weight from anything: hatched.
        float stripe = step(0.5, fract((gl_FragCoord.x + gl_FragCoord.y) / 9.0));
        base = mix(vec3(0.13, 0.15, 0.2), vec3(0.5, 0.42, 0.42), stripe);
    }
    vec3 lit = base * light;
    vec3 half_way = normalize(key_way + to_eye);
    lit += shine * 0.22 * pow(max(dot(n, half_way), 0.0), 28.0) * vec3(1.0, 0.97, 0.92);
    lit += rim * vec3(0.16, 0.19, 0.26);
    if (back) lit *= 0.72;
    colour = vec4(lit, alpha);
}
