"use strict";
// Search: rows of the table whose text has all words.
for (const search of document.querySelectorAll("input[type=search]")) {
  const table = document.getElementById(search.dataset.table);
  const count = document.getElementById(search.dataset.count);
  const rows = Array.from(table.tBodies[0].rows, (row) => [row, row.textContent.toLowerCase()]);
  const look = () => {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    for (const [row, text] of rows) {
      row.hidden = !words.every((word) => text.includes(word));
      shown += row.hidden ? 0 : 1;
    }
    count.textContent = `${shown} of ${rows.length}`;
  };
  search.addEventListener("input", look);
  look();
}
// Documents are packed in the page; they are unpacked when somebody wants them.
for (const button of document.querySelectorAll("button[data-document]")) {
  button.addEventListener("click", async () => {
    const packed = document.getElementById(button.dataset.document).textContent.trim();
    const bytes = Uint8Array.from(atob(packed), (letter) => letter.charCodeAt(0));
    const unpacked = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("gzip"));
    const link = document.createElement("a");
    link.href = URL.createObjectURL(await new Response(unpacked).blob());
    link.download = button.dataset.file;
    link.click();
    URL.revokeObjectURL(link.href);
  });
}
