//! Input that is huge, flat or leads elsewhere is bounded: one line says what the bound is.

use crate::common::{fail, run, sample, succeed};

fn chain(depth: usize) -> String {
    let node = |at: usize| match at + 1 < depth {
        true => format!("{{\"name\":\"n{at}\",\"children\":[{}]}}", at + 1),
        false => format!("{{\"name\":\"n{at}\"}}"),
    };
    document((0..depth).map(node).collect())
}

/// A glTF document of some nodes, the first of which is the root.
fn document(nodes: Vec<String>) -> String {
    format!(
        "{{\"asset\":{{\"version\":\"2.0\"}},\"nodes\":[{}],\"scenes\":[{{\"nodes\":[0]}}],\"scene\":0}}",
        nodes.join(",")
    )
}

#[test]
fn nodes_hang_two_thousand_deep_and_no_deeper_in_every_format() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    std::fs::write(at.join("deep.gltf"), chain(2000)).unwrap();
    succeed(at, &["inspect", "deep.gltf"]);
    for ending in ["ncurve", "glb", "dae"] {
        let out = format!("deep.{ending}");
        succeed(at, &["convert", "deep.gltf", &out, "--without-extra"]);
        succeed(at, &["inspect", &out]);
    }
    let nested = |open: &str, close: &str| format!("{}{}", open.repeat(2001), close.repeat(2001));
    let dae = format!(
        "<?xml version=\"1.0\"?><COLLADA xmlns=\"http://www.collada.org/2005/11/COLLADASchema\" version=\"1.4.1\"><asset/>\
         <library_visual_scenes><visual_scene id=\"v\">{}</visual_scene></library_visual_scenes></COLLADA>",
        nested("<node>", "</node>")
    );
    std::fs::write(at.join("deeper.gltf"), chain(2001)).unwrap();
    std::fs::write(at.join("deeper.dae"), dae).unwrap();
    for name in ["deeper.gltf", "deeper.dae"] {
        let said = fail(at, &["inspect", name]);
        assert!(said.contains("nested more than 2000 deep"), "{said}");
    }
    let many = (0..300).map(|at| format!(" a{at}=\"1\"")).collect::<String>();
    std::fs::write(at.join("wide.dae"), format!("<COLLADA{many}></COLLADA>")).unwrap();
    assert!(fail(at, &["inspect", "wide.dae"]).contains("more than 256 attributes"));
}

/// Many leaves at the end of a deep chain: what calls nodes by whole paths would grow by depth times nodes.
#[test]
fn paths_of_nodes_are_bounded_together() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let (deep, leaves) = (1500, 12_000);
    let node = |at: usize| match at + 1 < deep {
        true => format!("{{\"name\":\"same\",\"children\":[{}]}}", at + 1),
        false => {
            let children: Vec<String> = (deep..deep + leaves).map(|leaf| leaf.to_string()).collect();
            format!("{{\"name\":\"same\",\"children\":[{}]}}", children.join(","))
        }
    };
    let leaves = (0..leaves).map(|_| "{\"name\":\"same\"}".to_owned());
    let comb = document((0..deep).map(node).chain(leaves).collect());
    std::fs::write(at.join("comb.gltf"), comb).unwrap();
    for ending in ["usda", "usdc", "usdz"] {
        let said = fail(at, &["convert", "comb.gltf", &format!("comb.{ending}")]);
        assert!(said.contains("hang so deep") && said.contains("64 MB are the limit"), "{said}");
        assert!(!at.join(format!("comb.{ending}")).exists());
    }
    succeed(at, &["convert", "comb.gltf", "comb.glb"]);
    let length = std::fs::metadata(at.join("comb.glb")).unwrap().len();
    // Each of them stands there a few times.
    assert!(length < 160 << 20, "{length}");
}

#[test]
fn buffers_lie_in_the_folder_of_their_document_unless_others_are_allowed() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    std::fs::create_dir(at.join("in")).unwrap();
    succeed(
        at,
        &[
            "convert",
            sample("cart.ncurve").to_str().unwrap(),
            "in/cart.gltf",
            "--buffer-beside",
            "--without-extra",
        ],
    );
    succeed(at, &["inspect", "in/cart.gltf"]);
    std::fs::rename(at.join("in/cart.bin"), at.join("cart.bin")).unwrap();
    let text = std::fs::read_to_string(at.join("in/cart.gltf")).unwrap();
    let with = |uri: &str| text.replace("\"cart.bin\"", &format!("\"{uri}\""));
    assert_ne!(with("x"), text);
    for uri in ["../cart.bin", "..%2fcart.bin", "x/../../cart.bin"] {
        std::fs::create_dir_all(at.join("in/x")).unwrap();
        std::fs::write(at.join("in/cart.gltf"), with(uri)).unwrap();
        let said = fail(at, &["inspect", "in/cart.gltf"]);
        assert!(said.contains("lies outside its folder: say --files-anywhere"), "{uri}: {said}");
        succeed(at, &["inspect", "in/cart.gltf", "--files-anywhere"]);
    }
    #[cfg(unix)]
    for (link, target) in [("link.bin", "../cart.bin"), ("zero.bin", "/dev/zero")] {
        std::os::unix::fs::symlink(target, at.join("in").join(link)).unwrap();
        std::fs::write(at.join("in/cart.gltf"), with(link)).unwrap();
        let said = fail(at, &["inspect", "in/cart.gltf"]);
        assert!(said.contains("lies outside its folder"), "{said}");
        if target == "/dev/zero" {
            assert!(fail(at, &["inspect", "in/cart.gltf", "--files-anywhere"]).contains("is no file"));
        }
    }
}

#[test]
fn ranges_and_rates_beyond_all_use_are_refused_before_any_work() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let cart = sample("cart.ncurve");
    let cart = cart.to_str().unwrap();
    for command in ["bake", "unbake"] {
        let said = run(at, &[command, cart, "-o", "out.ncurve", "--frames", "0:1e9"]);
        let errors = String::from_utf8_lossy(&said.stderr).into_owned();
        assert!(said.status.code() == Some(2) && errors.contains("more than 4194304 frames"), "{errors}");
    }
    let said = fail(at, &["bake", cart, "-o", "out.ncurve", "--to-rate", "10000000"]);
    assert!(said.contains("no more than 268435456 are made at once"), "{said}");
    let text = std::fs::read_to_string(cart).unwrap();
    let long = text.replacen("96", "5000000", 1);
    assert_ne!(long, text);
    std::fs::write(at.join("long.ncurve"), long).unwrap();
    let said = fail(at, &["inspect", "long.ncurve"]);
    assert!(said.contains("no more than 4194304 are worked with"), "{said}");
    let far = format!("frame,a:x\n1,{}\n2,1\n", "1e37");
    std::fs::write(at.join("far.csv"), far).unwrap();
    assert!(fail(at, &["inspect", "far.csv"]).contains("not finite, or beyond 1e36"));
    let unit = "#usda 1.0\n(\n    metersPerUnit = 0\n)\ndef Xform \"a\"\n{\n}\n";
    std::fs::write(at.join("unit.usda"), unit).unwrap();
    let said = run(at, &["inspect", "unit.usda"]);
    assert!(String::from_utf8_lossy(&said.stderr).contains("states a metersPerUnit that is none"));
}

/// A node without size has a rotation all the same: nothing says NaN, and a file is the same as itself.
#[test]
fn nodes_without_size_are_said_in_numbers() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let text = std::fs::read_to_string(sample("cart.ncurve")).unwrap();
    let cart = sample("cart.ncurve");
    let cart = cart.to_str().unwrap();
    for (index, scale) in ["[0, 1, 1]", "[0, 0, 0]", "[1, 0, 0]"].into_iter().enumerate() {
        let flat = text.replacen("\"kind\": \"root\"", &format!("\"kind\": \"root\", \"scale\": {scale}"), 1);
        assert_ne!(flat, text);
        let name = format!("flat{index}.ncurve");
        std::fs::write(at.join(&name), flat).unwrap();
        succeed(at, &["compare", &name, &name]);
        for words in [
            &["inspect", &name][..],
            &["clips", &name],
            &["cycle", "find", &name],
            &["map", &name, cart],
            &["root", "show", &name],
            &["check", &name],
            &["convert", &name, "out.dae", "--matrices", "--replace"],
            &["convert", &name, "out.usda", "--skeletons", "--replace"],
            &["convert", &name, "out.glb", "--replace"],
        ] {
            let said = run(at, words);
            let text = String::from_utf8_lossy(&[said.stdout, said.stderr].concat()).into_owned();
            assert!(said.status.code() == Some(0) && !text.contains("NaN"), "{words:?}: {text}");
        }
    }
}
