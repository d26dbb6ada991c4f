package localfile

import "path/filepath"

// Real returns the absolute path of a file, behind all symbolic links that lead to it.
func Real(path string) (string, error) {
	where, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	if real, err := filepath.EvalSymlinks(where); err == nil {
		return real, nil
	}
	return where, nil
}
