//! Keys that other programs make, read and hold.

use embrak_trust::{Algorithm, Envelope, KeyError, PROVENANCE, PublicKey, SigningKey, Statement, Subject};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;

fn none() -> Result<String, String> {
    Err("nobody is there to ask".into())
}

fn phrase() -> Result<String, String> {
    Ok("ebb and flow".into())
}

/// Runs the system's openssl in a directory; its output, or nothing when it is not installed.
fn openssl(dir: &Path, args: &[&str]) -> Option<Vec<u8>> {
    match Command::new("openssl").args(args).current_dir(dir).output() {
        Ok(output) => {
            assert!(output.status.success(), "openssl {args:?}: {}", String::from_utf8_lossy(&output.stderr));
            Some(output.stdout)
        }
        Err(error) => {
            assert!(std::env::var_os("EMBRAK_REQUIRE_JUDGES").is_none(), "the judge openssl is missing: {error}");
            None
        }
    }
}

#[test]
fn keys_of_ours_are_read_by_another_program_and_its_keys_by_us() {
    let dir = tempfile::tempdir().unwrap();
    let at = |name: &str| dir.path().join(name);
    for (algorithm, theirs) in [
        (Algorithm::Ed25519, vec!["genpkey", "-algorithm", "ed25519", "-out", "theirs.pem"]),
        (
            Algorithm::P256,
            vec!["genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256", "-out", "theirs.pem"],
        ),
    ] {
        let key = SigningKey::generate_for(algorithm).unwrap();
        fs::write(at("plain.pem"), key.to_pem().unwrap()).unwrap();
        fs::write(at("closed.pem"), key.to_encrypted_pem("ebb and flow").unwrap()).unwrap();
        for input in ["plain.pem", "closed.pem"] {
            let args = ["pkey", "-in", input, "-passin", "pass:ebb and flow", "-pubout"];
            let Some(public) = openssl(dir.path(), &args) else { return };
            assert_eq!(String::from_utf8(public).unwrap(), key.public().to_pem().unwrap());
        }
        // A signature of ours, judged by it.
        fs::write(at("message"), "lamp on").unwrap();
        fs::write(at("signature"), key.sign(b"lamp on").unwrap()).unwrap();
        fs::write(at("public.pem"), key.public().to_pem().unwrap()).unwrap();
        let raw = if algorithm == Algorithm::Ed25519 { vec!["-rawin"] } else { vec!["-rawin", "-digest", "sha256"] };
        let mut args =
            vec!["pkeyutl", "-verify", "-pubin", "-inkey", "public.pem", "-in", "message", "-sigfile", "signature"];
        args.extend(&raw);
        openssl(dir.path(), &args).unwrap();
        // Its keys, plain and closed in its own way.
        openssl(dir.path(), &theirs).unwrap();
        let args = [
            "pkcs8",
            "-topk8",
            "-in",
            "theirs.pem",
            "-out",
            "theirs-closed.pem",
            "-v2",
            "aes-256-cbc",
            "-passout",
            "pass:ebb and flow",
        ];
        openssl(dir.path(), &args).unwrap();
        let public = openssl(dir.path(), &["pkey", "-in", "theirs.pem", "-pubout"]).unwrap();
        let public = PublicKey::from_pem(&String::from_utf8(public).unwrap(), "theirs").unwrap();
        assert_eq!(public.algorithm(), algorithm);
        for name in ["theirs.pem", "theirs-closed.pem"] {
            fs::set_permissions(at(name), fs::Permissions::from_mode(0o600)).unwrap();
            let read = SigningKey::load(&at(name), &phrase).unwrap();
            assert_eq!(read.public(), public, "{name}");
        }
        assert!(matches!(SigningKey::load(&at("theirs-closed.pem"), &none), Err(KeyError::Passphrase { .. })));
    }
}

/// A token of another maker, simulated: a program around openssl that never gives its key away.
fn token(dir: &Path, body: &str) -> std::path::PathBuf {
    let program = dir.join("token");
    fs::write(&program, format!("#!/bin/sh\ncd '{}'\nread -r question\n{body}\n", dir.display())).unwrap();
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    let file = dir.join("token.signer");
    fs::write(&file, "command = ['./token']\n").unwrap();
    file
}

#[test]
fn a_key_that_another_program_holds_signs() {
    let dir = tempfile::tempdir().unwrap();
    let args = ["genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256", "-out", "inside.pem"];
    if openssl(dir.path(), &args).is_none() {
        return;
    }
    let file = token(
        dir.path(),
        r#"case "$question" in
*'"do":"public"'*)
  printf '{"publicKey":"%s"}\n' "$(openssl pkey -in inside.pem -pubout | awk '{ printf "%s\\n", $0 }')" ;;
*)
  printf '%s' "$question" | sed 's/.*"message":"\([^"]*\)".*/\1/' | openssl base64 -d -A > message
  printf '{"signature":"%s"}\n' "$(openssl dgst -sha256 -sign inside.pem message | openssl base64 -A)" ;;
esac"#,
    );
    let key = SigningKey::load(&file, &none).unwrap();
    assert_eq!(key.public().algorithm(), Algorithm::P256);
    // Often enough that its signatures are of both kinds; ours is always the smaller.
    for n in 0..8 {
        let message = format!("lamp {n}");
        assert!(key.public().verifies(message.as_bytes(), &key.sign(message.as_bytes()).unwrap()));
    }
    let digest = embrak_tree::Digest::of("image");
    let statement = Statement::new(Subject::new("a.raw", &digest, &digest), PROVENANCE, serde_json::json!({}));
    let envelope = Envelope::sign(&statement, &key).unwrap();
    assert!(Envelope::from_line(&envelope.to_line()).unwrap().signed_by(&key.public()));
    assert!(key.to_pem().unwrap_err().to_string().contains("does not give it away"));

    fs::set_permissions(&file, fs::Permissions::from_mode(0o666)).unwrap();
    assert!(matches!(SigningKey::load(&file, &none), Err(KeyError::Mode { .. })));
}

#[test]
fn a_program_that_does_not_do_its_part_is_named() {
    let dir = tempfile::tempdir().unwrap();
    let public = SigningKey::from_seed([5; 32]).public().to_pem().unwrap().replace('\n', "\\n");
    let answer = |text: &str| {
        format!("case \"$question\" in *public*) printf '%s\\n' '{{\"publicKey\":\"{public}\"}}' ;; *) {text} ;; esac")
    };
    let told = |body: &str| {
        let file = token(dir.path(), body);
        match SigningKey::load(&file, &none).and_then(|key| key.sign(b"lamp")) {
            Ok(_) => panic!("it signed"),
            Err(error) => error.to_string(),
        }
    };
    assert!(told("echo '{\"error\":\"no token in slot 1\"}'; exit 1").contains("no token in slot 1"));
    assert!(told("echo hello").contains("no JSON"));
    assert!(told("exit 7").contains("exit status: 7"));
    assert!(told(&answer("echo '{\"signature\":\"AAAA\"}'")).contains("no signature by its own key"));
    assert!(told(&answer("echo '{}'")).contains("no `signature`"));
    fs::write(dir.path().join("none.signer"), "command = ['./nothing-there']\n").unwrap();
    let error = SigningKey::load(&dir.path().join("none.signer"), &none).err().unwrap();
    assert!(error.to_string().contains("cannot start"), "{error}");
}
