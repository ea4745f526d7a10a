// Asks the browser for a passkey or a security key, or to make one.
const button = document.getElementById("key");
const failed = document.getElementById("key-failed");
const post = async (path, body) => {
  const answer = await fetch(path, {method: "POST", headers: {"Content-Type": "application/json"}, body: body && JSON.stringify(body)});
  return answer.json();
};
button.hidden = !window.PublicKeyCredential?.parseRequestOptionsFromJSON;
button.addEventListener("click", async () => {
  button.disabled = true;
  failed.hidden = true;
  try {
    const options = (await post(button.dataset.options)).publicKey;
    const key = "new" in button.dataset
      ? await navigator.credentials.create({publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(options)})
      : await navigator.credentials.get({publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(options)});
    const answer = await post(button.dataset.answer + (document.getElementById("remember")?.checked ? "?remember=yes" : ""), key.toJSON());
    if (!answer.next) throw new Error(answer.error);
    location.assign(answer.next);
  } catch {
    failed.textContent = "That did not work. Try again, or in another way.";
    failed.hidden = false;
    button.disabled = false;
  }
});
