"""Words as others read them: quoted for each shell. One rule stands here once, and is tested by the shell itself."""
