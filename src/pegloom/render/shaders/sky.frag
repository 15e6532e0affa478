#version 330 core
in vec2 place;
uniform vec3 top;
uniform vec3 bottom;
out vec4 colour;
void main() {
    float t = smoothstep(-1.0, 1.0, place.y);
    vec3 shade = mix(bottom, top, t);
    shade += 0.022 * (1.0 - smoothstep(0.0, 1.3, length(place - vec2(0.0, 0.1))));
    colour = vec4(shade, 1.0);
}
