// An answer finds its place also where an earlier one has put another element there meanwhile:
// two changes at once ask with the same element to be replaced, and the first answer takes it away.
document.addEventListener("htmx:beforeRequest", (event) => {
  const asked = event.detail;
  asked.xhr.addEventListener("readystatechange", () => {
    const { target, xhr } = asked;
    if (xhr.readyState !== XMLHttpRequest.DONE || target.isConnected || !target.id) return;
    asked.target = document.getElementById(target.id) ?? target;
  });
});
