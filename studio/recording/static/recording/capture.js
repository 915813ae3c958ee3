// @ts-check
// Takes samples in the audio thread and hands them on, each stretch with the frame of the sound card's clock at which it
// began. A moment without input becomes silence, so that nothing after it moves.

const SIZE = 1024; // frames handed on at once

class Capture extends AudioWorkletProcessor {
  constructor() {
    super();
    this.channels = [0];
    this.filled = 0;
    this.port.onmessage = ({ data }) => this.#use(data.channels);
    this.#use([0]);
  }

  /** @param {number[]} channels of the input, from 0 */
  #use(channels) {
    this.channels = channels;
    this.buffer = new Float32Array(SIZE * channels.length);
    this.filled = 0;
  }

  process([input]) {
    const width = this.channels.length;
    for (let i = 0; i < 128; i++)
      for (let c = 0; c < width; c++) this.buffer[(this.filled + i) * width + c] = input[this.channels[c]]?.[i] ?? 0;
    this.filled += 128;
    if (this.filled >= SIZE) {
      const data = this.buffer;
      const first = currentFrame + 128 - this.filled;
      this.port.postMessage({ first, data, width, there: input.length }, [data.buffer]);
      this.buffer = new Float32Array(SIZE * width);
      this.filled = 0;
    }
    return true;
  }
}

registerProcessor("capture", Capture);
