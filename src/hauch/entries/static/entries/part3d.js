// The turning view of a part: in its envelope, cut open, coloured by what sticks out or by wall thickness; axis, centre of mass, blade sections.
"use strict";
(() => {
  const { three } = window;
  const ink = (name) => new three.Color(getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim() || "#888");
  const views = [];

  function lines(points, colour, dashed) {
    const geometry = new three.BufferGeometry().setFromPoints(points.map((p) => new three.Vector3(...p)));
    const material = dashed ? new three.LineDashedMaterial({ color: colour, dashSize: 4, gapSize: 3 }) : new three.LineBasicMaterial({ color: colour });
    const made = new three.LineSegments(geometry, material);
    if (dashed) made.computeLineDistances();
    return made;
  }

  function boxEdges([x0, y0, z0, x1, y1, z1]) {
    const p = [[x0, y0], [x1, y0], [x1, y1], [x0, y1]];
    const made = [];
    for (let i = 0; i < 4; i += 1) {
      const [a, b] = [p[i], p[(i + 1) % 4]];
      for (const z of [z0, z1]) made.push([...a, z], [...b, z]);
      made.push([...a, z0], [...a, z1]);
    }
    return made;
  }

  function ring(radius, z) {
    const made = [];
    for (let i = 0; i < 96; i += 1)
      for (const k of [i, i + 1]) made.push([radius * Math.cos((k * Math.PI) / 48), radius * Math.sin((k * Math.PI) / 48), z]);
    return made;
  }

  function envelope(place) {
    const group = new three.Group();
    const colour = ink("ref");
    if (place.cylinder) {
      const [radius, depth] = place.cylinder;
      group.add(lines([...ring(radius, 0), ...ring(radius, depth), ...[0, 1, 2, 3].flatMap((k) => [0, depth].map((z) => [radius * Math.cos((k * Math.PI) / 2), radius * Math.sin((k * Math.PI) / 2), z]))], colour));
    }
    if (place.box) group.add(lines(boxEdges(place.box), colour));
    for (const [x, y, z, dx, dy, dz] of place.keep_outs) group.add(lines(boxEdges([x, y, z, x + dx, y + dy, z + dz]), ink("amber"), true));
    return group;
  }

  // Thin is amber, asked is paper-like, thick is petrol; the least wall stands in the note, so that colour is not all that tells.
  function colours(geometry, how, least) {
    const count = geometry.attributes.position.count;
    const made = new Float32Array(3 * count);
    const body = ink("ref"), out = ink("danger"), thin = ink("amber"), thick = ink("petrol"), middle = ink("hair");
    const outside = geometry.attributes._outside, wall = geometry.attributes._thickness;
    for (let i = 0; i < count; i += 1) {
      let c = outside?.getX(i) > 0.5 ? out : body;
      if (how === "thickness" && wall) {
        const share = wall.getX(i) / least;
        c = share < 1 ? thin.clone().lerp(middle, Math.max(0, share * 2 - 1)) : middle.clone().lerp(thick, Math.min((share - 1) / 3, 1));
      }
      made.set([c.r, c.g, c.b], 3 * i);
    }
    geometry.setAttribute("color", new three.BufferAttribute(made, 3));
  }

  function show(element) {
    const stage = element.querySelector(".part3d-stage");
    const tools = element.querySelector(".part3d-tools");
    const about = JSON.parse(element.dataset.about);
    let renderer;
    try {
      renderer = new three.WebGLRenderer({ antialias: true, alpha: true });
    } catch {
      return; // no WebGL: the still picture stays
    }
    renderer.localClippingEnabled = true;
    renderer.setPixelRatio(Math.min(devicePixelRatio, 2));
    const scene = new three.Scene();
    scene.add(new three.AmbientLight(0xffffff, 1.6));
    const lamp = new three.DirectionalLight(0xffffff, 2.2);
    scene.add(lamp);
    const camera = new three.OrthographicCamera(-1, 1, 1, -1, -5000, 5000);
    camera.up.set(0, 0, 1);
    const controls = new three.OrbitControls(camera, stage);
    controls.enablePan = false;
    const view = { element, camera, controls, draw };
    let reach = 100, home = null, cut = null;

    function fit() {
      const { clientWidth: w, clientHeight: h } = stage;
      if (!w || !h) return;
      renderer.setSize(w, h);
      const half = reach * 0.8;
      const wide = Math.max(w / h, 0.1);
      [camera.left, camera.right, camera.top, camera.bottom] = wide > 1 ? [-half * wide, half * wide, half, -half] : [-half, half, half / wide, -half / wide];
      camera.updateProjectionMatrix();
      draw();
    }
    function draw() {
      lamp.position.copy(camera.position).add(new three.Vector3(reach * 0.6, -reach * 0.4, reach));
      renderer.render(scene, camera);
    }
    function turn(way) {
      const offset = camera.position.clone().sub(controls.target);
      const flat = Math.atan2(offset.y, offset.x), up = Math.asin(offset.z / offset.length());
      const step = Math.PI / 18;
      if (way === "home") {
        camera.position.copy(home);
        camera.zoom = 1;
        camera.updateProjectionMatrix();
      } else {
        const a = flat + (way === "left" ? -step : way === "right" ? step : 0);
        const b = Math.min(Math.max(up + (way === "up" ? step : way === "down" ? -step : 0), -1.5), 1.5);
        camera.position.copy(controls.target).add(new three.Vector3(Math.cos(b) * Math.cos(a), Math.cos(b) * Math.sin(a), Math.sin(b)).multiplyScalar(offset.length()));
      }
      controls.update();
      moved();
    }
    function moved() {
      draw();
      if (!("linked" in element.dataset)) return;
      for (const other of views)
        if (other !== view && "linked" in other.element.dataset) {
          other.camera.position.copy(camera.position).sub(controls.target).add(other.controls.target);
          other.camera.zoom = camera.zoom;
          other.camera.updateProjectionMatrix();
          other.camera.lookAt(other.controls.target);
          other.draw();
        }
    }

    new three.GLTFLoader().load(element.dataset.glb, (found) => {
      let mesh = null;
      found.scene.traverse((node) => { mesh ??= node.isMesh ? node : null; });
      if (!mesh) return;
      const geometry = mesh.geometry;
      if (!geometry.attributes.normal) geometry.computeVertexNormals();
      geometry.computeBoundingBox();
      const box = geometry.boundingBox, middle = box.getCenter(new three.Vector3());
      reach = box.getSize(new three.Vector3()).length() / 2;
      cut = new three.Plane(new three.Vector3(-1, 0, 0), box.max.x + 1);
      const material = new three.MeshLambertMaterial({ vertexColors: true, side: three.DoubleSide, flatShading: true, clippingPlanes: [cut] });
      colours(geometry, "fit", about.least);
      const part = new three.Mesh(geometry, material);
      const place = envelope(about.place), marks = new three.Group(), blades = new three.Group();
      if (about.rotor) {
        marks.add(lines([[0, 0, box.min.z - reach * 0.25], [0, 0, box.max.z + reach * 0.25]], ink("ink"), true));
        if (about.centre) {
          const ball = new three.Mesh(new three.SphereGeometry(reach * 0.025), new three.MeshBasicMaterial({ color: ink("danger") }));
          ball.material.depthTest = false;
          const angle = (about.centre[1] * Math.PI) / 180;
          ball.position.set(about.centre[0] * Math.cos(angle), about.centre[0] * Math.sin(angle), middle.z);
          ball.renderOrder = 2;
          marks.add(ball);
        }
        for (const outline of about.blades.flat()) blades.add(lines(outline.flatMap((point, i) => [point, outline[(i + 1) % outline.length]]), ink("petrol")));
        blades.traverse((line) => { if (line.material) { line.material.depthTest = false; line.renderOrder = 3; } });
      }
      blades.visible = false;
      scene.add(part, place, marks, blades);
      controls.target.copy(middle);
      home = middle.clone().add(new three.Vector3(0.75, -1, 0.8).normalize().multiplyScalar(4 * reach));
      camera.position.copy(home);
      controls.update();
      stage.querySelector(".still")?.remove();
      stage.prepend(renderer.domElement);
      tools.hidden = false;
      const scale = tools.querySelector("[data-scale]");
      tools.querySelector("[data-show]").addEventListener("change", (event) => {
        colours(geometry, event.target.value, about.least);
        scale.hidden = event.target.value !== "thickness";
        scale.textContent = `amber: thinner than the ${Number(about.least.toPrecision(3))} mm asked; petrol: four times that or more`;
        draw();
      });
      tools.querySelector("[data-envelope]").addEventListener("change", (event) => { place.visible = event.target.checked; draw(); });
      tools.querySelector("[data-marks]").addEventListener("change", (event) => { marks.visible = event.target.checked; draw(); });
      tools.querySelector("[data-blades]")?.addEventListener("change", (event) => { blades.visible = event.target.checked; draw(); });
      tools.querySelector("[data-cut]").addEventListener("input", (event) => {
        cut.constant = box.min.x + ((box.max.x - box.min.x) * event.target.value) / 100 + (event.target.value === "100" ? 1 : 0);
        draw();
      });
      for (const button of tools.querySelectorAll("[data-turn]")) button.addEventListener("click", () => turn(button.dataset.turn));
      stage.addEventListener("keydown", (event) => {
        const way = { ArrowLeft: "left", ArrowRight: "right", ArrowUp: "up", ArrowDown: "down", Home: "home" }[event.key];
        if (way) turn(way);
        else if (event.key === "+" || event.key === "-") {
          camera.zoom = Math.min(Math.max(camera.zoom * (event.key === "+" ? 1.2 : 1 / 1.2), 0.3), 12);
          camera.updateProjectionMatrix();
          moved();
        } else return;
        event.preventDefault();
      });
      controls.addEventListener("change", moved);
      new ResizeObserver(fit).observe(stage);
      matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => { colours(geometry, tools.querySelector("[data-show]").value, about.least); draw(); });
      views.push(view);
      fit();
      element.dataset.ready = "yes";
    });
  }
  for (const element of document.querySelectorAll(".part3d")) show(element);
})();
