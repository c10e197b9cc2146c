// Holds glTF and BVH files, as the loaders and the animation mixer of a WebGL library play them, against places that were
// computed elsewhere.
//
// webgl.mjs PLACES FILE [AGAIN]: prints the greatest distance in mm and angle in degrees at whole frames and at half frames;
// with a third file, also saves what was loaded to that, with a fourth argument one number of one track changed.
import fs from "fs";
import path from "path";

globalThis.self = globalThis;
globalThis.FileReader = class {
    async read(blob, as) {
        this.result = as(Buffer.from(await blob.arrayBuffer()));
        this.onloadend?.();
    }
    readAsArrayBuffer(blob) {
        this.read(blob, (bytes) => bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength));
    }
    readAsDataURL(blob) {
        this.read(blob, (bytes) => `data:application/octet-stream;base64,${bytes.toString("base64")}`);
    }
};
globalThis.ProgressEvent ??= class extends Event {};
const THREE = await import("three");
const [, , places, file, again, edit] = process.argv;
const bytes = fs.readFileSync(file);
let root, clips, metres;
if (path.extname(file) === ".dae") {
    const { DOMParser } = await import("@xmldom/xmldom");
    [globalThis.DOMParser, globalThis.document] = [DOMParser, { createElementNS: () => ({}) }];
    const { ColladaLoader } = await import("three/addons/loaders/ColladaLoader.js");
    // It says at length what it passes over, such as extra data.
    const said = console;
    globalThis.console = { ...said, log() {}, warn() {} };
    const loaded = new ColladaLoader().parse(bytes.toString(), "");
    globalThis.console = said;
    // Its scene stands upright and counts in metres.
    [root, clips, metres] = [loaded.scene, loaded.scene.animations, 1];
} else if (path.extname(file) === ".bvh") {
    const { BVHLoader } = await import("three/addons/loaders/BVHLoader.js");
    const { skeleton, clip } = new BVHLoader().parse(bytes.toString());
    root = new THREE.Group();
    root.add(skeleton.bones[0]);
    [clips, metres] = [[clip], 0.01];
} else {
    const { GLTFLoader } = await import("three/addons/loaders/GLTFLoader.js");
    const buffer = bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength);
    const loaded = await new GLTFLoader().parseAsync(buffer, path.dirname(file) + "/");
    [root, clips, metres] = [loaded.scene, loaded.animations, 1];
    if (again) {
        if (edit) clips[0].tracks[0].values[clips[0].tracks[0].getValueSize()] += 0.125;
        const { GLTFExporter } = await import("three/addons/exporters/GLTFExporter.js");
        const binary = path.extname(again) === ".glb";
        const saved = await new GLTFExporter().parseAsync(loaded.scene, { animations: clips, binary, onlyVisible: false });
        fs.writeFileSync(again, binary ? Buffer.from(saved) : JSON.stringify(saved));
    }
}
// Between two directions, in degrees; exact for small ones, too.
const angle = (a, b) => {
    const [u, v] = [a, b].map((numbers) => new THREE.Vector3(...numbers).normalize());
    return (Math.atan2(new THREE.Vector3().crossVectors(u, v).length(), u.dot(v)) * 180) / Math.PI;
};
const expected = JSON.parse(fs.readFileSync(places));
// Where up is another axis, the axes of nodes are turned along in formats that have one up axis.
const turned = expected.up === "z" && path.extname(file) !== ".dae";
const byName = new Map();
root.traverse((object) => {
    const name = object.userData.name ?? object.name;
    byName.set(name, byName.has(name) ? null : object);
});
const worst = [[0, 0], [0, 0]];
let seen = new Set(), all = new Set();
const isStill = (take) => take.nodes.every(({ rows }) => rows.every((row) => row.every((v, at) => v === rows[0][at])));
const moving = expected.takes.filter((take) => !isStill(take));
for (const take of expected.takes) {
    // What never moves has no animation.
    const place = moving.indexOf(take);
    if (place < 0) continue;
    // A loader of COLLADA calls clips by their ids, and gives one for each named range, all of the same tracks.
    const only = clips.length === moving.length ? clips[place] : moving.length === 1 ? clips[0] : null;
    const clip = clips.find((clip) => clip.name === take.name) ?? only;
    if (!clip) throw new Error(`${file}: there is no animation '${take.name}'`);
    // A named range says how long a clip lasts; the tracks go on.
    if (clip === only) clip.resetDuration();
    const mixer = new THREE.AnimationMixer(root);
    const action = mixer.clipAction(clip);
    action.setLoop(THREE.LoopOnce);
    action.clampWhenFinished = true;
    action.play();
    const steps = Math.round((take.last - take.first) * 2) + 1;
    for (let step = 0; step < steps; step++) {
        mixer.setTime(Math.min(step / 2 / expected.fps, clip.duration));
        root.updateMatrixWorld(true);
        for (const node of take.nodes) {
            all.add(node.name);
            // A loader of COLLADA calls joints by their ids.
            const object = byName.get(node.name) ?? byName.get(node.name.replace(/[^\w.-]/g, "_"));
            if (!object) continue;
            seen.add(node.name);
            const row = node.rows[step];
            const found = object.matrixWorld.elements;
            const distance = Math.hypot(...[0, 1, 2].map((at) => found[12 + at] * metres - row[at])) * 1000;
            const errors = worst[step % 2];
            errors[0] = Math.max(errors[0], distance);
            for (let axis = 0; axis < 3; axis++) {
                const [column, sign] = turned ? [[0, 1], [2, -1], [1, 1]][axis] : [axis, 1];
                const direction = [0, 1, 2].map((at) => sign * found[4 * column + at]);
                errors[1] = Math.max(errors[1], angle(direction, row.slice(3 + 3 * axis, 6 + 3 * axis)));
            }
        }
    }
    mixer.stopAllAction();
    mixer.uncacheRoot(root);
}
if (seen.size < 0.7 * all.size) throw new Error(`${file}: ${all.size - seen.size} of ${all.size} nodes are not there`);
console.log(JSON.stringify({ nodes: seen.size, of: all.size, whole: worst[0], half: worst[1] }));
