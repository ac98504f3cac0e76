// Runs beside the page: hands each block of samples on as it comes.
"use strict";
const { AudioWorkletProcessor: Processor, registerProcessor: register } = globalThis;
register("hauch-taker", class extends Processor {
  process(inputs) {
    const channel = inputs[0]?.[0];
    if (channel) this.port.postMessage(channel.slice());
    return true;
  }
});
