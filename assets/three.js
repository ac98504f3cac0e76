// What the page of a part needs of three.js, as one plain script: window.three.
export {
  AmbientLight, Box3, BufferAttribute, BufferGeometry, Color, DirectionalLight, DoubleSide, EdgesGeometry, Float32BufferAttribute, Group, Line, LineBasicMaterial, LineDashedMaterial,
  LineLoop, LineSegments, Mesh, MeshBasicMaterial, MeshLambertMaterial, OrthographicCamera, Plane, Scene, SphereGeometry, Vector3, WebGLRenderer,
} from "three";
export { OrbitControls } from "three/addons/controls/OrbitControls.js";
export { GLTFLoader } from "three/addons/loaders/GLTFLoader.js";
