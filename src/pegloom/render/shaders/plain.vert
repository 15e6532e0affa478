#version 330 core
in vec3 in_point;
uniform mat4 clip_from_world;
void main() {
    gl_Position = clip_from_world * vec4(in_point, 1.0);
    gl_Position.z -= 0.00004 * gl_Position.w;
}
