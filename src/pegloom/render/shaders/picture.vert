#version 330 core
in vec3 in_point;
in vec2 in_uv;
uniform mat4 clip_from_world;
out vec2 uv;
void main() {
    uv = in_uv;
    gl_Position = clip_from_world * vec4(in_point, 1.0);
}
