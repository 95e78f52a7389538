"""The page of the whole job is true: every command in it ends and says as the page shows."""

from tools.guide import PAGE, blocks, expected_status, run


def test_the_guide_does_what_it_says(tmp_path):
    page = PAGE.read_text()
    shown = [(command, lines) for block in blocks(page) for command, lines in block]
    told = run(page, tmp_path)
    assert len(shown) > 15 and [command for command, _ in shown] == [command for command, _, _ in told]
    for (command, lines), (_, status, output) in zip(shown, told, strict=True):
        assert status == expected_status(command), (command, output)
        whole = " ".join(" ".join(output).split())
        for line in lines:
            # What stands there of versions, places and sizes is another machine's.
            if line.strip() and not any(character.isdigit() or character in "/~…" for character in line):
                assert " ".join(line.split()) in whole, (command, line, output)
