// @ts-check
// What is recorded from: an input of this machine without any processing, or the demo's simulated player.

import { addressOf } from "../studio/address.js";

/** No echo cancelling, no gain or noise control: what the microphone hears. */
const PLAIN = { echoCancellation: false, autoGainControl: false, noiseSuppression: false };
export const SIMULATED = "simulated";

export class Input extends EventTarget {
  /** @param {AudioContext} context the player's: its clock places what is recorded */
  constructor(context) {
    super();
    this.context = context;
    this.channels = [0];
    this.most = 1; // channels that the input has
    this.id = "";
    this.rate = 0;
    this.label = "";
  }

  /** The inputs there are; they have names once one was allowed. */
  static async list() {
    const all = (await navigator.mediaDevices?.enumerateDevices()) ?? [];
    return all.filter((d) => d.kind === "audioinput").map((d) => ({ id: d.deviceId, name: d.label }));
  }

  get isOpen() {
    return Boolean(this.node);
  }

  /**
   * Open an input and begin to hear it. Rejects where the browser or whoever is asked refuses.
   * @param {string} id of the device, "" for the usual one, or SIMULATED
   */
  async open(id) {
    this.close();
    if (!navigator.mediaDevices && id !== SIMULATED) throw new DOMException("", "NotSupportedError");
    await this.context.resume();
    await this.context.audioWorklet.addModule(new URL("./capture.js", import.meta.url));
    const from = id === SIMULATED ? await this.#simulated() : await this.#device(id);
    this.id = id;
    this.node = new AudioWorkletNode(this.context, "capture", {
      numberOfOutputs: 1,
      channelCount: this.most,
      channelCountMode: "explicit",
      channelInterpretation: "discrete",
    });
    this.node.port.onmessage = ({ data }) => this.dispatchEvent(new CustomEvent("samples", { detail: data }));
    from.connect(this.node);
    const silence = new GainNode(this.context, { gain: 0 }); // what is connected to nothing is not run
    this.node.connect(silence).connect(this.context.destination);
    this.use(this.channels.filter((c) => c < this.most));
  }

  async #device(id) {
    const audio = { ...PLAIN, channelCount: { ideal: 32 }, ...(id ? { deviceId: { exact: id } } : {}) };
    this.stream = await navigator.mediaDevices.getUserMedia({ audio });
    const [track] = this.stream.getAudioTracks();
    this.most = track.getSettings().channelCount ?? 1;
    this.label = track.label;
    this.rate = track.getSettings().sampleRate ?? 0; // of the device; the browser converts where it is not the page's
    track.onended = () => this.dispatchEvent(new Event("gone"));
    return new MediaStreamAudioSourceNode(this.context, { mediaStream: this.stream });
  }

  async #simulated() {
    const response = await fetch(addressOf("/simulated-player.wav"));
    const buffer = await this.context.decodeAudioData(await response.arrayBuffer());
    this.most = buffer.numberOfChannels;
    this.label = "Simulated player";
    this.rate = 0;
    this.player = new AudioBufferSourceNode(this.context, { buffer, loop: true });
    this.player.start();
    return this.player;
  }

  /** @param {number[]} channels of the input that are recorded, from 0 */
  use(channels) {
    this.channels = channels.length ? channels : [0];
    this.node?.port.postMessage({ channels: this.channels });
  }

  close() {
    this.stream?.getTracks().forEach((t) => t.stop());
    this.player?.stop();
    this.node?.disconnect();
    this.stream = this.player = this.node = null;
  }
}
