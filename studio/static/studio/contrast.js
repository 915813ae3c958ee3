// @ts-check
// The contrast that was chosen on this machine, before anything is drawn.
document.documentElement.dataset.contrast = localStorage.getItem("contrast") ?? "usual";
